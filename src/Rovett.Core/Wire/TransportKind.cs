namespace Rovett.Core.Wire;

/// <summary>The ways a session can be connected.</summary>
public enum TransportKind
{
    /// <summary>RFC 6455.</summary>
    WebSocket,
    /// <summary>Server-sent events (WHATWG HTML).</summary>
    Sse,
    /// <summary>Requests that wait for an answer (RFC 7240's <c>wait</c>).</summary>
    LongPoll,
}
