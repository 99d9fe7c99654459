using Rovett.Core.Notifications;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>Offers stored notifications to connected users whom a log reaches. Notifications of one log that come one
/// after the other wait for each other and are offered together, person by person: a person's memory is then touched
/// once for all of them. Whatever else the ledger does comes after <see cref="Flush"/>.</summary>
sealed class FanOut(Ledger ledger)
{
    readonly List<(OutgoingEntry Entry, NotificationTraits Traits)> waiting = [];
    readonly List<EntryRun?> runs = [], watchRuns = []; // by the number of the address
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

    /// <summary>Offers what waits.</summary>
    /// <param name="attending">Users for whom it comes read; null: nobody.</param>
    /// <param name="stored">It is on disk: it leaves at once.</param>
    public void Flush(IReadOnlyList<UserState>? attending = null, bool stored = false)
    {
        if (log is null) return;
        long first = waiting[0].Entry.Position.Value;
        var newest = waiting[^1].Entry.Time;
        foreach (var member in log.Members)
        {
            var user = member.User;
            if (member.AddressIndex < 0) continue;
            if (user.Mutes.Count > 0 || user.SkippedAt >= first || attending is { Count: > 0 })
            {
                for (int i = 0; i < waiting.Count; i++) OfferOne(member, i, attending, stored);
                continue;
            }
            long unread = user.Unread + 1;
            user.Unread += waiting.Count;
            var all = RunFor(member.AddressIndex);
            foreach (var place in user.Sessions) ledger.Offer(place, all, user.Rev, unread, stored);
        }
        foreach (var watch in log.Subscribers)
        {
            var user = watch.Place.User;
            if (user.Mutes.Count > 0 || user.SkippedAt >= first)
            {
                for (int i = 0; i < waiting.Count; i++) OfferOne(watch, i, stored);
            }
            else ledger.Offer(watch.Place, RunFor(watch.AddressIndex, counted: false), user.Rev, user.Unread, stored);
        }
        Clear();
    }

    /// <summary>To a session that has only subscribed: nothing of it is counted.</summary>
    void OfferOne(SubscribedLog watch, int i, bool stored)
    {
        var (entry, traits) = waiting[i];
        var user = watch.Place.User;
        long ordinal = firstOrdinal + i;
        if (user.SkippedAt == entry.Position.Value) watch.Seen.Skips.Add(new OrdinalRun(ordinal, ordinal));
        else if (user.HasMuted(traits)) watch.Seen.Muted.Add(new OrdinalRun(ordinal, ordinal));
        else
        {
            ledger.Offer(watch.Place, EntryRun.Of(entry.WireFor(watch.Address, counted: false), log!.Log.Id, ordinal), user.Rev,
                user.Unread, stored);
        }
    }

    void OfferOne(Member member, int i, IReadOnlyList<UserState>? attending, bool stored)
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
        if (!read) user.Unread++;
        if (user.Sessions.Count == 0) return;
        var run = waiting.Count == 1 && !read ? RunFor(member.AddressIndex)
            : EntryRun.Of(entry.WireFor(log.Log.Texts[member.AddressIndex], read: read), log.Log.Id, ordinal);
        foreach (var place in user.Sessions) ledger.Offer(place, run, user.Rev, user.Unread, stored);
    }

    EntryRun RunFor(int addressIndex, bool counted = true)
    {
        var made = counted ? runs : watchRuns;
        while (made.Count <= addressIndex) made.Add(null);
        return made[addressIndex] ??= new EntryRun(
            [.. waiting.Select(w => w.Entry.WireFor(log!.Log.Texts[addressIndex], counted: counted))], log!.Log.Id, firstOrdinal);
    }

    /// <summary>Drops what is waiting: its commit failed.</summary>
    public void Clear()
    {
        log = null;
        waiting.Clear();
        runs.Clear();
        watchRuns.Clear();
    }
}
