using Rovett.Core.Addresses;
using Rovett.Core.Policies;
using Rovett.Core.Presence;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>The presence boards' view of a space.</summary>
sealed class PresenceSource(SpaceState space) : IPresenceSource
{
    const string Topic = "topic:";

    public long Stirred => space.Stirred;

    public StoredTime Time => space.Time;

    public StoredTime Due => space.Due;

    public bool MayComeBack(long person) => space.Find(person) is { Sessions.Count: 0 };

    /// <summary>By what users hold, and by what single sessions have subscribed to.</summary>
    public HashSet<long> On(string address)
    {
        var here = space.Connected.Holding(address).Where(static u => u.Sessions.Exists(static s => !s.Silent))
            .Select(static u => u.PersonId)
            .ToHashSet();
        if (!address.StartsWith(Topic, StringComparison.Ordinal)) return here;
        foreach (var place in space.Subscriptions.On(address[Topic.Length..]))
        {
            if (!place.Silent) here.Add(place.User.PersonId);
        }
        return here;
    }

    public PresentPerson Describe(long person, string address, StoredTime since)
    {
        var user = space.Find(person)!;
        return new PresentPerson(user.Id.Value, user.Row.DisplayName, ProfileOf(user, address), since);
    }

    string ProfileOf(UserState user, string address)
    {
        if (!address.StartsWith(Topic, StringComparison.Ordinal)) return "";
        var topic = address[Topic.Length..];
        var profile = space.Topics.Decide(user, topic, TopicRights.Subscribe).Profile;
        return profile.Length > 0 ? profile : space.Topics.Decide(user, topic, TopicRights.Follow).Profile;
    }

    public Decision Decide(IPresenceViewer viewer, Address address, bool inUse = false)
    {
        var user = ((SessionPlace)viewer).User;
        if (address.Kind == AddressKind.Topic)
        {
            return inUse ? space.Topics.InUse(user, address.Name, TopicRights.Presence)
                : space.Topics.Decide(user, address.Name, TopicRights.Presence);
        }
        // Members of a role see each other where the role is set so.
        bool member = user.Holds(address.ToString());
        if (member && space.Role(address.Name) is { Presence: true }) return new Decision(true, $"the role '{address.Name}'");
        return new Decision(false, member ? $"the role '{address.Name}' shows nobody (presence)"
            : $"the user does not have the role '{address.Name}'");
    }
}
