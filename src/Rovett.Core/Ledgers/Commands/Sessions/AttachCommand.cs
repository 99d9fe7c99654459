using Rovett.Core.Delivery;
using Rovett.Core.Nodes;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers.Commands.Sessions;

/// <summary>The state of a new session.</summary>
/// <param name="User">The user as the ledger holds it: a handle for later commands.</param>
/// <param name="Channels">The channels it is on: its own, its roles', everyone's.</param>
/// <param name="Totals">The user's totals.</param>
/// <param name="Head">The newest position.</param>
public sealed record OpenInfo(UserState User, ChannelList Channels, Totals Totals, Position Head)
{
    /// <summary>The user follows a topic that is not the user's now.</summary>
    public bool FollowsInactive { get; init; }

    /// <summary>Where a session started that is live already: what its device missed was in memory and is queued.</summary>
    public Position? LiveFrom { get; init; }

    /// <summary>The message with the user's choices; null: nothing was chosen.</summary>
    public ControlMessage? Choices { get; init; }

    /// <summary>The plan for reading its logs; null when it is live already.</summary>
    public ReadPlan? Plan { get; init; }
}

/// <summary>Takes a credential into account and connects a session: live when memory has all that its device missed,
/// otherwise behind, until it asks to go live.</summary>
/// <param name="space">The space's name.</param>
/// <param name="identity">The user and the credential.</param>
/// <param name="device">The session's device.</param>
/// <param name="session">The session.</param>
/// <param name="at">The device's cursor.</param>
public sealed class AttachCommand(string space, Identity identity, string device, ISessionPort session, DevicePoint at = default)
    : LedgerCommand<OpenInfo>(space)
{
    bool mustLast;

    internal override bool MaySyncLater => true;

    internal override bool MustLast => mustLast;

    internal override void Needs(AheadList ahead) => ahead.Add(identity.User.Value);

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var user = Identification.Take(ledger, state, identity, out mustLast);
        state.UserLogs.Ensure(user);
        var totals = Plans.TotalsOf(user);
        Answer = new OpenInfo(user, Roles.ChannelsOf(user, null), totals, new Position(state.Head))
        {
            FollowsInactive = user.Follows.Count > 0 && user.Follows.Keys.Any(t => !user.Holds("topic:" + t)),
            Choices = user.Row.ChoicesRev > 0 ? ChoiceOperation.MessageFor(user) : null,
        };
        session.Join(user.PlanVersion, user.Dispatched, user.Devices.Begin(device));
        var place = new SessionPlace(user, device) { Session = session };
        ledger.Attached(session);
        user.Sessions.Add(place);
        state.Port.Add(new NodeJoin(user.Node, session));
        if (user.Sessions.Count == 1)
        {
            state.Port.Add(new NodeTotal(user.Node, totals.Unread));
            user.ChoicesToldAt = state.Due.Micros;
            state.Connected.Join(user);
        }
        else state.Connected.Count(user);
        if (CatchUpFromMemory.Reach(state, user, place, at) is var (from, missed) && session.HasRoomFor(missed.Count))
        {
            var cursor = state.Cursors.Seal(new Position(state.Head));
            state.Port.Add(new NodeLive(session, 0, missed, cursor, state.Head, totals));
            Answer = Answer with { LiveFrom = new Position(from) };
        }
        else Answer = Answer with { Plan = Plans.For(state, user) };
    }
}
