using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Spaces;

namespace Rovett.Service.Live;

/// <summary>A session of a device, wherever its connection is.</summary>
public interface IOpenSession
{
    /// <summary>The session's id: random, and known only to its device and operators.</summary>
    string Id { get; }
    /// <summary>Its space.</summary>
    SpaceRuntime Space { get; }
    /// <summary>Its user.</summary>
    string User { get; }
    /// <summary>The credential that it holds by.</summary>
    Credential Credential { get; }
    /// <summary>Its device.</summary>
    string Device { get; }
    /// <summary>The device's name.</summary>
    string? Label { get; }
    /// <summary>The transport's name in messages.</summary>
    string TransportName { get; }
    /// <summary>What its device says that it tried before, and why that did not work.</summary>
    IReadOnlyList<string> Tried { get; }
    /// <summary>When it began.</summary>
    StoredTime Since { get; }
    /// <summary>How it is, in a word.</summary>
    string StateName { get; }
    /// <summary>The channels it is on.</summary>
    IEnumerable<string> ChannelNames { get; }
    /// <summary>How many may be sent to it before it acknowledges some.</summary>
    int Window { get; }
    /// <summary>Notifications sent and not acknowledged yet.</summary>
    int Outstanding { get; }
    /// <summary>Notifications sent to it.</summary>
    long Sent { get; }
    /// <summary>Everything up to here was sent; null: nothing yet.</summary>
    Position? Through { get; }
    /// <summary>How the ledger knows it, as long as it is attached to one of this process.</summary>
    (UserState User, ISessionPort Session)? Place { get; }

    /// <summary>Ends it with a reason.</summary>
    /// <param name="reason">The word in the <c>ending</c> message.</param>
    /// <param name="comeBackWithinMs">When to come back; null: not with this credential.</param>
    void End(string reason, int? comeBackWithinMs);

    /// <summary>Cuts its connection, or its tie to the node that has that.</summary>
    void Cut();

    /// <summary>Another process takes over the space: the session is attached there, or its device reconnects.</summary>
    void MoveAway();

    /// <summary>The name of a transport in messages.</summary>
    static string NameOf(TransportKind transport) =>
        transport switch { TransportKind.WebSocket => "websocket", TransportKind.Sse => "sse", _ => "long-poll" };
}
