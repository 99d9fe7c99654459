using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;

namespace Rovett.Core.Ledger;

/// <summary>Where a device is that begins a session.</summary>
/// <param name="After">The position up to which it has everything; null when it named none; long.MaxValue for "now".</param>
/// <param name="Foreign">The cursor it named is not of this store's present life.</param>
public readonly record struct DevicePoint(long? After, bool Foreign);

/// <summary>What a session is told when it begins.</summary>
/// <param name="User">The user as the ledger holds it: a handle for later commands.</param>
/// <param name="Channels">The channels it is on: its own, its roles', everyone's.</param>
/// <param name="Totals">The user's totals.</param>
/// <param name="Head">The newest position.</param>
/// <param name="PlanVersion">The number of what the user may see.</param>
/// <param name="Marks">How far the device's sessions were written to, this one's mark last.</param>
public sealed record OpenInfo(UserState User, ChannelList Channels, Totals Totals, Position Head, int PlanVersion, DispatchMark[] Marks)
{
    /// <summary>The user follows a topic that is not the user's now.</summary>
    public bool FollowsInactive { get; init; }

    /// <summary>Where the session began that is live already: what its device missed was in memory, and is queued.</summary>
    public Position? LiveFrom { get; init; }

    /// <summary>What may be read for it out of the logs; null when it is live already.</summary>
    public ReadPlan? Plan { get; init; }
}

/// <summary>Takes a credential into account and, with a session, connects it: live when memory has all that its device
/// missed, otherwise behind, until it asks to go live.</summary>
/// <param name="space">The space's name.</param>
/// <param name="identity">Who, by which credential.</param>
/// <param name="device">The session's device.</param>
/// <param name="session">Makes the session once the user is known; null for a request that is not live.</param>
/// <param name="at">Where the device is.</param>
public sealed class AttachCommand(string space, Identity identity, string device, Func<OpenInfo, Session>? session, DevicePoint at = default) : LedgerCommand<OpenInfo>
{
    bool mustLast;

    internal override bool MayOnlyRead => session is null;

    internal override bool MaySyncLater => true;

    // A newer token that changes nothing is the whole history's least: after a power cut the token that follows says it again.
    internal override bool MustLast => mustLast;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var user = Standing.Find(state, identity) ?? state.FindOrAdd(identity.User.Value);
        var (head, before) = (state.Head, user.Row);
        Roles.TakeToken(ledger, state, user, identity);
        mustLast = state.Head != head || before.Seen is null || before.Claims != user.Row.Claims || !ReferenceEquals(before.Ahead, user.Row.Ahead) || !before.TokenRoles.SequenceEqual(user.Row.TokenRoles);
        state.EnsureLogs(user);
        var totals = Ledger.TotalsOf(user);
        Answer = new OpenInfo(user, Roles.ChannelsOf(user, null), totals, new Position(state.Head), user.PlanVersion, session is null ? [] : user.Devices.Begin(device)) { FollowsInactive = user.Follows.Keys.Any(t => !user.Holds("topic:" + t)) };
        if (session is null)
        {
            Answer = Answer with { Plan = ledger.PlanFor(state, user) };
            return;
        }
        var made = session(Answer);
        var place = new SessionPlace(user, device) { Session = made };
        ledger.Attached(made);
        user.Sessions.Add(place);
        if (user.Sessions.Count == 1)
        {
            user.Unread = totals.Unread;
            state.JoinAll(user);
        }
        else state.Count(user);
        if (Present.Reach(state, user, place, at) is var (from, missed) && made.HasRoomFor(missed.Count))
        {
            made.EnterLive(missed, state.Cursors.Seal(new Position(state.Head)), state.Head, totals);
            ledger.FlushLater(made);
            Answer = Answer with { LiveFrom = new Position(from) };
        }
        else Answer = Answer with { Plan = ledger.PlanFor(state, user) };
    }
}

/// <summary>A session is gone.</summary>
public sealed class DetachCommand(string space, UserState user, ISessionPort session) : LedgerCommand<bool>
{
    /// <inheritdoc/>
    public override bool IsAlwaysTaken => true;

    internal override void Write(Ledger ledger)
    {
        if (ledger.SpaceIfAny(space) is not { } state) return; // it was removed, and every session in it ended
        // A failed commit may have put another object in the user's place.
        var present = user.Sessions.Exists(s => s.Session == session) ? user : state.Find(user.PersonId) ?? user;
        if (present.Sessions.Find(s => s.Session == session) is not { } place) return;
        state.Attend(present, place, null);
        state.Watches.Leave(place);
        state.Presence.Leave(place);
        Answer = present.Sessions.Remove(place);
        if (present.Sessions.Count > 0)
        {
            state.Count(present);
            return;
        }
        state.LeaveAll(present);
        state.SaveLogs(present);
    }

    /// <summary>Gone is gone, whatever the disk says.</summary>
    internal override void AfterFailure(Ledger ledger)
    {
        if (ledger.Known(space) is not { } state) return;
        var present = state.Connected.FirstOrDefault(u => u.Sessions.Exists(s => s.Session == session));
        if (present?.Sessions.Find(s => s.Session == session) is not { } place) return;
        state.Attend(present, place, null);
        state.Watches.Leave(place);
        state.Presence.Leave(place);
        present.Sessions.Remove(place);
        if (present.Sessions.Count > 0) state.Count(present);
        else state.LeaveAll(present);
    }
}

/// <summary>A session stopped answering, or answers again.</summary>
public sealed class SilenceCommand(string space, UserState user, ISessionPort session, bool silent) : LedgerCommand<bool>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var present = user.Sessions.Exists(s => s.Session == session) ? user : state.Find(user.PersonId) ?? user;
        if (present.Sessions.Find(s => s.Session == session) is not { } place) return;
        place.Silent = silent;
        state.Count(present);
        Answer = true;
    }
}

/// <summary>A session says which subject its user is looking at. What comes about it arrives read.</summary>
public sealed class AttendCommand(string space, UserState user, ISessionPort session, string? subject) : LedgerCommand<bool>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var present = user.Sessions.Exists(s => s.Session == session) ? user : state.Find(user.PersonId) ?? user;
        if (present.Sessions.Find(s => s.Session == session) is not { } place) return;
        var before = place.Attends;
        ledger.Undo(() => place.Attends = before);
        state.Attend(present, place, subject);
        Answer = true;
    }
}

/// <summary>A session that has read all its logs asks to be fed live.</summary>
public sealed class GoLiveCommand(string space, string userId, Session session, int planVersion) : LedgerCommand<bool>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (state.Find(userId) is { } user && user.PlanVersion == planVersion && user.Sessions.Find(s => s.Session == session) is { } place && Present.Since(state, user, place, session.Through) is { } rest)
        {
            if (session.EnterLive(rest, state.Cursors.Seal(new Position(state.Head)), state.Head, Ledger.TotalsOf(user, user.Unread))) ledger.FlushLater(session);
            Answer = true;
        }
        else session.StayBehind();
    }
}

/// <summary>Asks for a fresh plan: for a session that fell behind.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">Who.</param>
/// <param name="session">The session; null for the user's inbox.</param>
public sealed class PlanCommand(string space, string userId, ISessionPort? session = null) : LedgerCommand<ReadPlan?>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        Answer = state.Find(userId) is { } user ? ledger.PlanFor(state, user, user.Sessions.Find(s => s.Session == session)) : null;
    }
}

/// <summary>What of some notifications the user may still be sent, with the address that reaches it.</summary>
public sealed class AgainCommand(string space, UserState user, ISessionPort session, IReadOnlyList<AgainItem> items) : LedgerCommand<(IReadOnlyList<(AgainItem Item, EntryWire Wire)> Found, int PlanVersion, Totals Totals)>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var present = state.Find(user.PersonId) ?? user; // a failed commit may have put another object in the user's place
        state.EnsureLogs(present);
        var found = new List<(AgainItem, EntryWire)>();
        foreach (var item in items)
        {
            var own = present.Logs!.Find(l => l.Log.Id == item.Log);
            var log = own ?? present.Sessions.Find(s => s.Session == session)?.Watches.Find(w => w.Seen.Log.Id == item.Log)?.Seen;
            if (log is null || log.SegmentOf(item.Ordinal) is not { } segment) continue;
            var entry = state.Recent.Find(item.Position);
            if (entry is null && ledger.Store.FindEntry(state.Id, item.Position) is { } row) entry = new OutgoingEntry(row.Kind, row.Position, row.Time, row.Id, state.Cursors.Seal(row.Position), row.Body);
            if (entry is not null) found.Add((item, entry.WireFor(log.Log.Texts[segment.AddressIndex], item.Attempt, counted: own is not null)));
        }
        Answer = (found, present.PlanVersion, Ledger.TotalsOf(present));
    }
}

/// <summary>Asks for the newest position of a space.</summary>
public sealed class HeadCommand(string space) : LedgerCommand<Position>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger) => Answer = new Position(ledger.Space(space).Head);
}

/// <summary>Finds out whether the store takes writes, by a write that changes nothing.</summary>
public sealed class ProbeCommand(string space) : LedgerCommand<bool>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        // A row that is written as it was is not written at all.
        ledger.Store.SaveFloor(state.Id, state.Floor + 1);
        ledger.Store.SaveFloor(state.Id, state.Floor);
        Answer = true;
    }
}

/// <summary>Hands an ephemeral notification to whoever is connected now: no position, no count, nothing stored.</summary>
/// <param name="space">The space's name.</param>
/// <param name="draft">The notification.</param>
public sealed class EphemeralCommand(string space, Draft draft) : LedgerCommand<IReadOnlyList<Reach>>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var reach = Reaching.Of(ledger, state, draft);
        Reaching.Check(ledger, draft, reach);
        var key = draft.Traits.Type + "\n" + draft.Traits.Subject;
        var told = new HashSet<SessionPlace>();
        foreach (var address in draft.To.OrderBy(a => a.Kind == Addresses.AddressKind.User ? 0 : 1).ThenBy(a => a.ToString(), StringComparer.Ordinal))
        {
            ControlMessage? message = null;
            foreach (var (user, only) in Connected(state, address))
            {
                if (address.Kind != Addresses.AddressKind.User && draft.Except.Any(e => e.Kind == Addresses.AddressKind.User ? e.Name == user.Id.Value : user.Holds(e.ToString()))) continue;
                if (user.HasMuted(draft.Traits.Type, draft.Traits.Subject)) continue;
                message ??= Messages.Ephemeral(address.ToString(), draft.Body, state.Time);
                foreach (var place in only is null ? user.Sessions : [only])
                {
                    if (told.Add(place) && place.Session.OfferPassing(key, message, out _)) ledger.FlushLater(place.Session);
                }
            }
        }
        Answer = [.. reach.Select(r => r with { Stored = 0 })];
    }

    /// <summary>Who is connected by an address; of a topic also single sessions that have subscribed.</summary>
    internal static IEnumerable<(UserState User, SessionPlace? Only)> Connected(SpaceState state, Addresses.Address address)
    {
        if (address.Kind == Addresses.AddressKind.User) return state.Find(address.Name) is { Sessions.Count: > 0 } user ? [(user, null)] : [];
        var holders = state.ConnectedHolders(address.ToString()).Select(u => (u, (SessionPlace?)null));
        return address.Kind == Addresses.AddressKind.Topic ? holders.Concat(state.Watches.On(address.Name).Select(p => (p.User, (SessionPlace?)p))) : holders;
    }
}
