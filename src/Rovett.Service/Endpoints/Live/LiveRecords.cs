using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Live;

/// <summary>How a device connects.</summary>
public sealed record LiveQuery
{
    /// <summary>Go on after this cursor; <c>now</c>: nothing old.</summary>
    [Example("now")]
    public string? After { get; set; }

    /// <summary>The device's own id.</summary>
    [Example("phone")]
    public string? Device { get; set; }

    /// <summary>The device's name.</summary>
    [Example("Mara's phone")]
    public string? Label { get; set; }

    /// <summary><c>event</c>: heartbeats as events, for an EventSource, which can't see comments.</summary>
    [OneOf("event")]
    public string? Heartbeat { get; set; }

    /// <summary><c>true</c>: when another node takes over the space, the connection stays open and <c>opened</c> comes again.</summary>
    [OneOf("true")]
    public string? Reopens { get; set; }

    /// <summary>What was tried before this connection, and why it did not work: a hint for operators. May be repeated; the first four are
    /// shown.</summary>
    [Example("websocket: the upgrade failed")]
    public string? Tried { get; set; }

    /// <summary>A connect ticket, in place of the header.</summary>
    public string? Ticket { get; set; }
}

/// <summary>Which answer of a long poll.</summary>
public sealed record PollQuery
{
    /// <summary>1 for the first request after the session was opened, then one more each time.</summary>
    [Whole(1, int.MaxValue), Example(1)]
    public int? Turn { get; set; }
}
