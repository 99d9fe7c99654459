using Rovett.Core.Marks;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>Builds read plans and totals.</summary>
static class Plans
{
    /// <summary>Totals as of now, but not later than entries that can still arrive.</summary>
    // As of the newest entry, not of the clock: set back, it would make what comes later look staler. What changes a
    // total is an entry, or a change of the user's own.
    public static Totals TotalsOf(UserState user, long unread) => new(unread, user.Home.LastTime, user.Rev);

    /// <summary>The totals of a user who may or may not be connected.</summary>
    public static Totals TotalsOf(UserState user) => TotalsOf(user, user.CountUnread());

    /// <summary>Counts a user's unread anew, in all and by address.</summary>
    public static TotalsBy CountBy(UserState user)
    {
        var by = new SortedDictionary<string, long>(StringComparer.Ordinal);
        long sum = 0;
        foreach (var log in user.Logs!)
        {
            long unread = log.Unread();
            if (unread == 0) continue;
            sum += unread;
            // Only where several addresses reach the same person must the parts be counted one by one.
            if (log.Segments.Select(s => s.AddressIndex).Distinct().Count() == 1) Add(log.Log.Texts[log.Segments[0].AddressIndex], unread);
            else
            {
                foreach (var s in log.Segments) Add(log.Log.Texts[s.AddressIndex], log.CountUnread(s.Lo, s.Hi) + log.MineUnreadIn(s));
            }
        }
        return new TotalsBy(TotalsOf(user, sum), [.. by]);

        void Add(string address, long count)
        {
            if (count != 0) by[address] = by.GetValueOrDefault(address) + count;
        }
    }

    public static ReadPlan For(SpaceState space, UserState user, SessionPlace? place = null)
    {
        space.UserLogs.Ensure(user);
        var logs = new List<PlannedLog>();
        foreach (var log in user.Logs!)
        {
            space.UserLogs.Store(user, log);
            if (log.Log.Head == 0 || log.Segments.Length == 0) continue;
            logs.Add(new PlannedLog(log.Log.Id, log.Log.Texts, [.. log.Segments.Select(s => s with { Hi = Math.Min(s.Hi, log.Log.Head) })],
                log.Log.Trimmed, log.Log.Lost));
        }
        foreach (var watch in place?.SubscribedLogs ?? [])
        {
            var log = watch.Seen.Log;
            if (log.Head == 0) continue;
            space.UserLogs.FindMuted(user, [watch.Seen]);
            var muted = new OrdinalSet();
            var runs = new List<OrdinalRun>();
            watch.Seen.Muted.Runs(watch.Seen.Segments[0].Lo, log.Head, present: true, runs);
            foreach (var run in runs) muted.Add(run);
            logs.Add(new PlannedLog(log.Id, log.Texts, [watch.Seen.Segments[0] with { Hi = log.Head }], log.Trimmed, log.Lost)
            { SubscribedMuted = muted });
        }
        return new ReadPlan(user.PersonId, user.Space, user.PlanVersion, logs, new Position(space.Head), CountBy(user),
            user.Row.RolesChangedAt, Roles.ChannelsOf(user, place));
    }
}
