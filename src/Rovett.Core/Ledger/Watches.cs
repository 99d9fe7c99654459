using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Marks;

namespace Rovett.Core.Ledger;

/// <summary>One log that a session sees something of because it has subscribed to a topic, and for no other reason.</summary>
/// <param name="place">The session.</param>
/// <param name="seen">What it sees of the log: one segment; never stored, nothing of it is counted.</param>
internal sealed class Watch(SessionPlace place, UserLog seen)
{
    public readonly SessionPlace Place = place;
    public readonly UserLog Seen = seen;
    public int Index = -1;

    /// <summary>The log's address that reaches it.</summary>
    public int AddressIndex => Seen.Segments[0].AddressIndex;

    public string Address => Seen.Log.Texts[AddressIndex];
}

/// <summary>Who has subscribed to what in one space. Owned by the ledger's thread.</summary>
sealed class Watches(SpaceState space, ILedgerStore store)
{
    readonly Dictionary<string, List<SessionPlace>> byTopic = [];

    /// <summary>The sessions that have subscribed to a topic.</summary>
    public IReadOnlyList<SessionPlace> On(string topic) => byTopic.TryGetValue(topic, out var list) ? list : [];

    /// <summary>Puts a session into the lists of the logs it sees by its subscriptions, after <see cref="Find"/>.</summary>
    public void Join(SessionPlace place)
    {
        space.Stirred++;
        foreach (var watch in place.Watches)
        {
            watch.Index = watch.Seen.Log.Watches.Count;
            watch.Seen.Log.Watches.Add(watch);
        }
        foreach (var topic in place.Topics.Keys)
        {
            if (!byTopic.TryGetValue(topic, out var list)) byTopic[topic] = list = [];
            list.Add(place);
        }
    }

    /// <summary>Takes a session out of all lists.</summary>
    public void Leave(SessionPlace place)
    {
        space.Stirred++;
        foreach (var watch in place.Watches)
        {
            var list = watch.Seen.Log.Watches;
            if (watch.Index < 0 || watch.Index >= list.Count || list[watch.Index] != watch) continue;
            var last = list[^1];
            list[watch.Index] = last;
            last.Index = watch.Index;
            list.RemoveAt(list.Count - 1);
            watch.Index = -1;
        }
        foreach (var topic in place.Topics.Keys)
        {
            if (byTopic.TryGetValue(topic, out var list) && list.Remove(place) && list.Count == 0) byTopic.Remove(topic);
        }
    }

    /// <summary>Works out anew which logs a session sees by its subscriptions alone. Not in any list until <see cref="Join"/>.</summary>
    public void Find(SessionPlace place)
    {
        place.Watches = [];
        var found = new HashSet<AddressLog>();
        foreach (var topic in place.Topics.Keys)
        {
            foreach (var log in space.AudiencesOf("topic:" + topic))
            {
                if (found.Add(log) && WatchOf(place, log) is { } watch) place.Watches.Add(watch);
            }
        }
    }

    /// <summary>A new audience was made: who has subscribed to one of its topics sees it too.</summary>
    public void Made(AddressLog log)
    {
        var seen = new HashSet<SessionPlace>();
        foreach (var address in log.Addresses)
        {
            if (address.Kind != AddressKind.Topic) continue;
            foreach (var place in On(address.Name))
            {
                if (!seen.Add(place) || WatchOf(place, log) is not { } watch) continue;
                watch.Index = log.Watches.Count;
                log.Watches.Add(watch);
                place.Watches.Add(watch);
            }
        }
    }

    /// <summary>What a session sees of a log by subscription; null when its user sees it anyway, or is left out by a role.</summary>
    Watch? WatchOf(SessionPlace place, AddressLog log)
    {
        var user = place.User;
        var audience = log.Audience!;
        if (SpaceState.IsLeftOut(user, audience) || SpaceState.IndexFor(user, audience) >= 0) return null;
        var segments = new List<Segment>();
        for (int i = 0; i < audience.Includes.Count; i++)
        {
            if (audience.Includes[i].Kind == AddressKind.Topic && place.Topics.TryGetValue(audience.Includes[i].Name, out long since)) segments.Add(new Segment(space.OrdinalAt(log, since), long.MaxValue, i));
        }
        var first = segments.MinBy(s => s.Lo);
        var seen = new UserLog(log, [first], null, store, user.PersonId) { MutedThrough = first.Lo };
        if (log.Head > first.Lo)
        {
            var skipped = new List<OrdinalRun>();
            store.Skips(user.PersonId, log.Id).Runs(first.Lo, log.Head, present: true, skipped);
            foreach (var run in skipped) seen.Skips.Add(run);
            space.FindMuted(user, seen);
        }
        return new Watch(place, seen);
    }
}
