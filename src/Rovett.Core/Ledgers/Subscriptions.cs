using Rovett.Core.Addresses;
using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>The subscriptions of one space. Owned by the ledger's thread.</summary>
sealed class Subscriptions(SpaceState space, ILedgerStore store)
{
    readonly Dictionary<string, List<SessionPlace>> byTopic = [];

    /// <summary>The sessions that have subscribed to a topic.</summary>
    public IReadOnlyList<SessionPlace> On(string topic) => byTopic.TryGetValue(topic, out var list) ? list : [];

    /// <summary>Puts a session into the lists of the logs it sees by its subscriptions, after <see cref="Find"/>.</summary>
    public void Join(SessionPlace place)
    {
        space.Stirred++;
        foreach (var log in place.SubscribedLogs) log.Join();
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
        foreach (var log in place.SubscribedLogs) log.Leave();
        foreach (var topic in place.Topics.Keys)
        {
            if (byTopic.TryGetValue(topic, out var list) && list.Remove(place) && list.Count == 0) byTopic.Remove(topic);
        }
    }

    /// <summary>Works out which logs a session sees by its subscriptions alone. In no list until <see cref="Join"/>.</summary>
    public void Find(SessionPlace place)
    {
        place.ClearSubscribed();
        var found = new HashSet<AddressLog>();
        foreach (var topic in place.Topics.Keys)
        {
            foreach (var log in space.AudiencesOf("topic:" + topic))
            {
                if (found.Add(log) && SeenBy(place, log) is { } subscribed) place.AddSubscribed(subscribed);
            }
        }
    }

    /// <summary>Adds a new audience's log for sessions that have subscribed to one of its topics.</summary>
    public void Made(AddressLog log)
    {
        var seen = new HashSet<SessionPlace>();
        foreach (var address in log.Addresses)
        {
            if (address.Kind != AddressKind.Topic) continue;
            foreach (var place in On(address.Name))
            {
                if (!seen.Add(place) || SeenBy(place, log) is not { } subscribed) continue;
                subscribed.Join();
                place.AddSubscribed(subscribed);
            }
        }
    }

    /// <summary>The part of a log that a session sees by subscription; null when its user sees it anyway or is excepted.</summary>
    SubscribedLog? SeenBy(SessionPlace place, AddressLog log)
    {
        var user = place.User;
        var audience = log.Audience!;
        if (user.IsLeftOutOf(audience) || user.AddressIndexFor(audience) >= 0) return null;
        var segments = new List<Segment>();
        for (int i = 0; i < audience.Includes.Count; i++)
        {
            if (audience.Includes[i].Kind == AddressKind.Topic && place.Topics.TryGetValue(audience.Includes[i].Name, out long since))
            {
                segments.Add(new Segment(space.OrdinalAt(log, since), long.MaxValue, i));
            }
        }
        var first = segments.MinBy(s => s.Lo);
        var seen = new UserLog(log, [first], null, store, user.PersonId) { MutedThrough = first.Lo };
        if (log.Head > first.Lo)
        {
            var skipped = new List<OrdinalRun>();
            store.Skips(user.PersonId, log.Id).Runs(first.Lo, log.Head, present: true, skipped);
            foreach (var run in skipped) seen.Skips.Add(run);
            space.UserLogs.FindMuted(user, [seen]);
        }
        return new SubscribedLog(place, seen, space.StateOf(log));
    }
}
