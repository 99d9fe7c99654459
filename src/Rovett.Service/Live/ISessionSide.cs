using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Spaces;

namespace Rovett.Service.Live;

/// <summary>Who serves a session's space, as the session uses it: this process, or another node.</summary>
interface ISessionSide
{
    /// <summary>The problem of a token that was not read for the newest policies: it is to be checked where the space is served.</summary>
    const string ReadForEarlierPolicies = "token-outdated";

    /// <summary>What was read or offered until now may be written now.</summary>
    bool MayWrite { get; }

    /// <summary>It never may again.</summary>
    bool IsOver { get; }

    /// <summary>How the ledger knows the session; null: not as one of this process.</summary>
    (UserState User, ISessionPort Session)? Place { get; }

    /// <summary>The newest entries of the space.</summary>
    RecentEntries RecentOf(SpaceRuntime space);

    /// <summary>Checks a token.</summary>
    /// <param name="token">As the device sent it.</param>
    /// <param name="space">The space that it is for.</param>
    /// <param name="whereServed">By the node that serves the space, which knows the newest policies and the claims they look at.</param>
    /// <exception cref="ProblemException">401: it is not valid.</exception>
    ValueTask<Credential> Check(string token, SpaceRuntime space, bool whereServed = false);

    /// <summary>Attaches a session to its user; once, before anything else.</summary>
    /// <exception cref="ProblemException">It is refused.</exception>
    Task<Opening> Attach(LiveSession session, DevicePoint at);

    /// <summary>Takes it from its user. Never fails.</summary>
    Task Detach();

    /// <summary>The session leaves for another side. Later acknowledgements are passed to its current side.</summary>
    /// <returns>The acknowledgements that may not be stored yet.</returns>
    List<(bool Handled, List<AckedRun> Runs)> Leave();

    /// <summary>What it may read; null: its user is unknown.</summary>
    Task<ReadPlan?> Plan();

    /// <summary>It has read all of a plan: what follows is offered.</summary>
    Task GoLive(int planVersion);

    /// <summary>Of some notifications, those that it may be sent again.</summary>
    Task<(IReadOnlyList<(AgainItem Item, EntryWire Wire)> Found, int PlanVersion, Totals Totals)> Again(IReadOnlyList<AgainItem> items);

    /// <summary>Its device stopped answering, or answers again.</summary>
    Task Silent(bool isSilent);

    /// <summary>Takes a newer credential of its user into account.</summary>
    /// <exception cref="ProblemException">It is refused.</exception>
    Task Identify(Credential renewed);

    /// <summary>Carries out what its device says, but for acknowledgements and renewals.</summary>
    Task<ControlMessage?> Handle(DeviceMessage message);

    /// <summary>Its device has these; written behind.</summary>
    void Acknowledged(bool handled, List<AckedRun> acked);

    /// <summary>The same, done when it is on disk.</summary>
    Task StoreAcknowledged(bool handled, List<AckedRun> acked);
}

/// <summary>The state of a session that was let in.</summary>
/// <param name="Channels">The channels it is on.</param>
/// <param name="Totals">The user's totals.</param>
/// <param name="LiveFrom">Where it started, when it is live already; null: it reads <paramref name="Plan"/>.</param>
/// <param name="Choices">The message with the user's choices; null: nothing was chosen.</param>
/// <param name="Plan">The plan for reading its logs.</param>
sealed record Opening(ChannelList Channels, Totals Totals, Position? LiveFrom, ControlMessage? Choices, ReadPlan? Plan);
