using Rovett.Core.Nodes;
using Rovett.Core.Notifications;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>Hands stored notifications over for the connected users whom a log reaches. Notifications of one log that come one after the
/// other wait for each other and are one line, whoever is connected: the node finds out whom they reach. Only those who are not like the
/// others are looked at here. Whatever else the ledger does comes after <see cref="Flush"/>.</summary>
sealed class FanOut(Ledger ledger)
{
    readonly List<(OutgoingEntry Entry, NotificationTraits Traits)> waiting = [];
    readonly HashSet<UserState> passedBy = [];
    LogState? log;
    long firstOrdinal;

    /// <summary>Offers made so far, one per notification and user.</summary>
    public long Offered { get; private set; }

    /// <summary>A notification was stored in a log.</summary>
    public void Add(LogState into, long ordinal, OutgoingEntry entry, NotificationTraits traits)
    {
        if (log is not null && (log != into || entry.Position.Value != waiting[0].Entry.Position.Value + waiting.Count)) Flush();
        if (log is null) (log, firstOrdinal) = (into, ordinal);
        waiting.Add((entry, traits));
        Offered += into.Members.Count + into.Subscribers.Count;
    }

    /// <summary>The notification that is added next passes a user by, whom it reaches otherwise.</summary>
    public void PassesBy(UserState user)
    {
        if (user.Sessions.Count > 0) passedBy.Add(user);
    }

    /// <summary>Hands over what waits.</summary>
    /// <param name="attending">Users for whom it comes read; null: nobody.</param>
    public void Flush(IReadOnlyList<UserState>? attending = null)
    {
        if (log is null) return;
        if (log.Members.Count + log.Subscribers.Count > 0) HandOver(attending);
        Clear();
    }

    void HandOver(IReadOnlyList<UserState>? attending)
    {
        var special = new HashSet<UserState>(passedBy);
        foreach (var member in log!.WithMutes) special.Add(member.User);
        foreach (var watch in log.SubscribersWithMutes) special.Add(watch.Place.User);
        foreach (var user in attending ?? []) special.Add(user);
        var port = ledger.Port;
        port.Add(new NodeRun(log.Node, firstOrdinal, [.. waiting.Select(w => w.Entry)],
            special.Count > 0 ? [.. special.Select(u => u.Node)] : null, ledger.Origin, log.Members.Count + log.Subscribers.Count));
        foreach (var user in special)
        {
            foreach (var member in user.Members)
            {
                if (member.Log.Log != log.Log || member.AddressIndex < 0) continue;
                for (int i = 0; i < waiting.Count; i++) One(member, i, attending);
            }
            foreach (var place in user.Sessions)
            {
                foreach (var watch in place.SubscribedLogs)
                {
                    if (watch.Seen.Log != log.Log) continue;
                    for (int i = 0; i < waiting.Count; i++) One(watch, i);
                }
            }
        }
    }

    /// <summary>To a session that has only subscribed: nothing of it is counted.</summary>
    void One(SubscribedLog watch, int i)
    {
        var (entry, traits) = waiting[i];
        var user = watch.Place.User;
        long ordinal = firstOrdinal + i;
        if (user.SkippedAt == entry.Position.Value) watch.Seen.Skips.Add(new OrdinalRun(ordinal, ordinal));
        else if (user.HasMuted(traits)) watch.Seen.Muted.Add(new OrdinalRun(ordinal, ordinal));
        else if (watch.Place.Session != ledger.Origin)
        {
            ledger.Port.Add(new NodeWatchLine(user.Node, watch.Place.Session,
                EntryRun.Of(entry.WireFor(watch.Address, counted: false), log!.Log.Id, ordinal)));
        }
    }

    void One(Member member, int i, IReadOnlyList<UserState>? attending)
    {
        var (entry, traits) = waiting[i];
        var user = member.User;
        long ordinal = firstOrdinal + i;
        if (log!.Log.Audience is not null && user.SkippedAt == entry.Position.Value) return;
        if (user.HasMuted(traits))
        {
            member.Log.CountOut(ordinal, 1);
            member.Log.Muted.Add(new OrdinalRun(ordinal, ordinal));
            return;
        }
        bool read = attending?.Contains(user) == true; // marked after
        ledger.Port.Add(new NodeLine(user.Node,
            EntryRun.Of(entry.WireFor(log.Log.Texts[member.AddressIndex], read: read), log.Log.Id, ordinal), read ? 0 : 1, ledger.Origin));
    }

    /// <summary>Drops what is waiting: its commit failed.</summary>
    public void Clear()
    {
        log = null;
        waiting.Clear();
        passedBy.Clear();
    }
}
