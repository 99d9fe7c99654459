namespace Rovett.Core.Wire.WebSockets;

/// <summary>What the reader found in the bytes so far.</summary>
public enum FrameEvent
{
    /// <summary>More bytes are needed.</summary>
    NeedMore,
    /// <summary>A whole text message: <see cref="FrameReader.Payload"/>.</summary>
    Text,
    /// <summary>A ping, with its payload.</summary>
    Ping,
    /// <summary>A pong, with its payload.</summary>
    Pong,
    /// <summary>A close frame: <see cref="FrameReader.Code"/>, 1005 when it had none.</summary>
    Close,
    /// <summary>The peer broke the protocol: close with <see cref="FrameReader.Code"/> and
    /// <see cref="FrameReader.Reason"/>; nothing more is read.</summary>
    Failed,
}
