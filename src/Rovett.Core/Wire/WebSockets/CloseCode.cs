namespace Rovett.Core.Wire.WebSockets;

/// <summary>Close codes of RFC 6455 §7.4.1 that the service uses.</summary>
public static class CloseCode
{
    /// <summary>Done.</summary>
    public const int Normal = 1000;
    /// <summary>The service goes down.</summary>
    public const int GoingAway = 1001;
    /// <summary>The peer broke the protocol.</summary>
    public const int ProtocolError = 1002;
    /// <summary>Binary, where only text is taken.</summary>
    public const int Unsupported = 1003;
    /// <summary>Text that is not UTF-8.</summary>
    public const int InvalidPayload = 1007;
    /// <summary>Not let in.</summary>
    public const int PolicyViolation = 1008;
    /// <summary>A message over the limit.</summary>
    public const int TooBig = 1009;

    /// <summary>Whether a peer may send this code (§7.4).</summary>
    public static bool MayBeSent(int code) => code is >= 1000 and <= 1003 or >= 1007 and <= 1014 or >= 3000 and <= 4999;
}
