namespace Rovett.Core.Wire.WebSockets;

/// <summary>Opcodes of RFC 6455 §5.2.</summary>
public enum Opcode : byte
{
    /// <summary>Goes on with a fragmented message.</summary>
    Continuation = 0,
    /// <summary>UTF-8 text.</summary>
    Text = 1,
    /// <summary>Bytes.</summary>
    Binary = 2,
    /// <summary>§5.5.1.</summary>
    Close = 8,
    /// <summary>§5.5.2.</summary>
    Ping = 9,
    /// <summary>§5.5.3.</summary>
    Pong = 10,
}
