using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>The users' views of the logs of one space: loaded when first needed, kept current while they are in memory.
/// Owned by the ledger's thread.</summary>
sealed class UserLogs(SpaceState space, ILedgerStore store)
{
    /// <summary>Loads the user's logs and marks, at a cost of the number of the user's logs and of what changed while
    /// it was away.</summary>
    public List<UserLog> Ensure(UserState user)
    {
        if (user.Logs is null)
        {
            var stored = store.UserLogs(user.PersonId).ToDictionary(r => r.Log);
            var list = new List<UserLog> { Load(user, space.PersonalLog(user.Id.Value), null, stored) };
            var seen = new HashSet<long>();
            foreach (var address in user.Held.ToList())
            {
                foreach (var log in space.AudiencesOf(address))
                {
                    if (seen.Add(log.Id) && user.PositionsOf(log.Audience!) is { Count: > 0 } positions)
                    {
                        list.Add(Load(user, log, positions, stored));
                    }
                }
            }
            foreach (var take in store.TakesOf(user.PersonId)) list.Find(l => l.Log.Id == take.Place.Log)?.Own(take.Place.Ordinal);
            list.TrimExcess();
            user.Logs = list;
        }
        foreach (var log in user.Logs) log.Settle(store, space.Floor);
        Mute(user);
        foreach (var log in user.Logs)
        {
            if (log.IsDirty && !space.OnlyReads) log.Save(store, user.PersonId);
        }
        return user.Logs;
    }

    UserLog Load(UserState user, AddressLog log, List<(long After, long Until, int AddressIndex)>? positions,
        Dictionary<long, UserLogRow> stored)
    {
        var row = stored.GetValueOrDefault(log.Id);
        bool computed = false;
        var segments = positions is null ? [new Segment(0, long.MaxValue, 0)] : row?.Segments ?? SegmentsOf(log, positions, out computed);
        var loaded = new UserLog(log, segments, row, store, user.PersonId);
        if (row is not null && row.Gone is null) loaded.Recount();
        else if (computed) loaded.IsDirty = true; // worked out once, kept from now on
        return loaded;
    }

    /// <summary>Finds notifications that arrived since while their type or subject was muted.</summary>
    void Mute(UserState user)
    {
        List<UserLog>? behind = null;
        foreach (var log in user.Logs!)
        {
            if (log.MutedThrough >= log.Log.Head) continue;
            if (user.Mutes.Count > 0) log.IsDirty = true;
            (behind ??= []).Add(log);
        }
        if (behind is not null) FindMuted(user, behind);
    }

    /// <summary>The same, for what is not stored.</summary>
    public void FindMuted(UserState user, IReadOnlyList<UserLog> logs)
    {
        if (user.Mutes.Count > 0) Ask(user, logs);
        foreach (var log in logs) log.MutedThrough = log.Log.Head;
    }

    void Ask(UserState user, IReadOnlyList<UserLog> logs)
    {
        var (of, ranges) = (new List<UserLog>(), new List<MutedRange>());
        foreach (var log in logs)
        {
            foreach (var mute in user.Mutes)
            {
                if (log.MutedThrough >= log.Log.Head || mute.After >= log.Log.HeadPosition) continue;
                of.Add(log);
                ranges.Add(new MutedRange(log.Log.Id, mute.IsType, NotificationTraits.HashOf(mute.Text), log.MutedThrough, log.Log.Head,
                    mute.After, mute.Until ?? long.MaxValue));
            }
        }
        foreach (var (log, ordinals) in of.Zip(store.MutedOrdinals(ranges)))
        {
            foreach (long ordinal in ordinals)
            {
                if (log.Muted.Contains(ordinal)) continue;
                if (!log.Read.Contains(ordinal) && !log.Skips.Contains(ordinal)) log.CountOut(ordinal, 1);
                log.Muted.Add(new OrdinalRun(ordinal, ordinal));
            }
        }
    }

    public Segment[] SegmentsOf(AddressLog log, List<(long After, long Until, int AddressIndex)> positions) =>
        SegmentsOf(log, positions, out _);

    /// <param name="computed">Set when the store had to be asked.</param>
    Segment[] SegmentsOf(AddressLog log, List<(long After, long Until, int AddressIndex)> positions, out bool computed)
    {
        var segments = new List<Segment>();
        bool asked = false;
        foreach (var (after, until, index) in positions)
        {
            asked |= (after > 0 && after < log.HeadPosition) || (until < log.HeadPosition);
            long lo = space.OrdinalAt(log, after), hi = until == long.MaxValue ? long.MaxValue : space.OrdinalAt(log, until);
            if (hi > lo) segments.Add(new Segment(lo, hi, index));
        }
        computed = asked;
        return [.. segments];
    }

    /// <summary>Recomputes everything that depends on what the user may see.</summary>
    public void Forget(UserState user)
    {
        Save(user);
        user.Logs = null;
        store.ForgetUserLogs(user.PersonId);
    }

    /// <summary>Stores counts that are not stored yet.</summary>
    public void Save(UserState user)
    {
        foreach (var log in user.Logs ?? [])
        {
            if (log.IsDirty) log.Save(store, user.PersonId);
        }
    }

    /// <summary>Stores one of a user's logs, if it changed.</summary>
    public void Store(UserState user, UserLog log) => log.Save(store, user.PersonId);
}
