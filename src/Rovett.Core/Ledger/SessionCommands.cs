using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;

namespace Rovett.Core.Ledger;

/// <summary>What a session is told when it begins.</summary>
/// <param name="User">The user as the ledger holds it: a handle for later commands.</param>
/// <param name="Channels">The channels it is on: its own, its roles', everyone's.</param>
/// <param name="Totals">The user's totals.</param>
/// <param name="Head">The newest position.</param>
/// <param name="Plan">What the session may be fed from its logs.</param>
public sealed record OpenInfo(UserState User, IReadOnlyList<string> Channels, Totals Totals, Position Head, ReadPlan Plan);

/// <summary>Takes a credential into account and, with a session, connects it: behind, until it asks to go live.</summary>
/// <param name="space">The space's name.</param>
/// <param name="identity">Who, by which credential.</param>
/// <param name="session">Makes the session once the user is known; null for a request that is not live.</param>
/// <param name="withMarks">Whether the plan carries the user's marks.</param>
public sealed class AttachCommand(string space, Identity identity, Func<OpenInfo, ISessionPort>? session, bool withMarks) : LedgerCommand<OpenInfo>
{
    SpaceState state = null!;
    UserState user = null!;
    bool changed;
    long unread;

    /// <summary>Roles change between what was stored before and what comes after, for whoever is connected or about to be.</summary>
    internal override bool MustComeFirst(Ledger ledger) =>
        ledger.Space(space).Find(identity.User.Value) is { } known && known.Sessions.Count + known.AttachesUnderWay > 0
        && Ledger.ChangeOf(known, identity) is var (lost, gained) && lost.Count + gained.Count > 0;

    internal override void Write(Ledger ledger)
    {
        state = ledger.Space(space);
        user = state.FindOrAdd(identity.User.Value, null);
        changed = ledger.TakeRoles(state, user, identity);
        state.EnsureLogs(user);
        unread = user.CountUnread();
        if (changed)
        {
            user.PlanVersion++;
            ledger.ApplyBeforeNext = user.Sessions.Count > 0; // the old channels are left before anything else is stored
        }
        user.AttachesUnderWay++;
        var plan = ledger.PlanFor(state, user, withMarks);
        Answer = new OpenInfo(user, ChannelsOf(user), plan.Totals.Totals, plan.Head, plan);
    }

    private protected override void Carry(Ledger ledger)
    {
        state.AppliedHead = Math.Max(state.AppliedHead, Answer.Head.Value);
        user.AttachesUnderWay--;
        if (changed && user.Sessions.Count > 0)
        {
            state.LeaveAll(user);
            user.Unread = unread;
            state.JoinAll(user);
            var allowed = user.Logs!.Select(l => l.Log.Id).ToHashSet();
            var message = Messages.Channels(Answer.Channels, Answer.Totals);
            foreach (var other in user.Sessions)
            {
                other.PlanChanged(user.PlanVersion, allowed);
                other.Tell(message);
            }
        }
        if (session is null) return;
        if (user.Sessions.Count == 0)
        {
            user.Unread = unread;
            user.Sessions.Add(session(Answer));
            state.JoinAll(user);
        }
        else user.Sessions.Add(session(Answer));
    }

    internal static IReadOnlyList<string> ChannelsOf(UserState user) =>
        [$"user:{user.Id.Value}", .. user.Held.Where(a => a != "everyone").Order(StringComparer.Ordinal), .. user.Held.Where(a => a == "everyone")];
}

/// <summary>A session is gone.</summary>
public sealed class DetachCommand(string space, UserState user, ISessionPort session) : LedgerCommand<bool>
{
    internal override bool NeedsStore => false;

    internal override void Write(Ledger ledger) { }

    private protected override void Carry(Ledger ledger)
    {
        var state = ledger.Space(space);
        // A failed commit may have put another object in the user's place.
        var present = user.Sessions.Contains(session) ? user : state.Find(user.Id.Value) ?? user;
        Answer = present.Sessions.Remove(session);
        if (Answer && present.Sessions.Count == 0) state.LeaveAll(present);
    }
}

/// <summary>A session that has read all its logs asks to be fed live.</summary>
public sealed class GoLiveCommand(string space, string userId, Session session, int planVersion) : LedgerCommand<bool>
{
    SpaceState state = null!;
    UserState? user;

    internal override void Write(Ledger ledger)
    {
        state = ledger.Space(space);
        user = state.Find(userId);
        if (user is not null) state.EnsureLogs(user);
    }

    private protected override void Carry(Ledger ledger)
    {
        if (user is null || user.PlanVersion != planVersion)
        {
            session.StayBehind();
            return;
        }
        var missing = new List<(AddressLog Log, long Ordinal, long Position)>();
        var rest = new List<(PageItem, long, long)>();
        foreach (var log in user.Logs!)
        {
            if (!log.Log.TryRecent(session.Through, missing))
            {
                session.StayBehind();
                return;
            }
            // What this batch wrote after this command is offered when its turn comes.
            missing.RemoveAll(m => m.Log == log.Log && (m.Position > state.AppliedHead || log.SegmentOf(m.Ordinal) is null));
        }
        foreach (var (log, ordinal, position) in missing.OrderBy(m => m.Position))
        {
            if (state.Recent.Find(position) is not { } notification)
            {
                session.StayBehind();
                return;
            }
            var segment = user.Logs.Find(l => l.Log == log)!.SegmentOf(ordinal)!.Value;
            rest.Add((new PageItem(notification, log.Texts[segment.AddressIndex], log.Id, ordinal), user.Rev, user.Unread));
        }
        session.EnterLive(rest, state.Cursors.Seal(new Position(state.AppliedHead)), state.AppliedHead, ledger.TotalsOf(user, user.Unread));
        Answer = true;
    }
}

/// <summary>Asks for a fresh plan: for a session that fell behind, or for an inbox.</summary>
public sealed class PlanCommand(string space, string userId, bool withMarks) : LedgerCommand<ReadPlan?>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        Answer = state.Find(userId) is { } user ? ledger.PlanFor(state, user, withMarks) : null;
    }
}

/// <summary>Asks for the newest position of a space.</summary>
public sealed class HeadCommand(string space) : LedgerCommand<Position>
{
    internal override void Write(Ledger ledger) => Answer = new Position(ledger.Space(space).Head);
}
