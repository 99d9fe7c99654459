using Rovett.Core.Nodes;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>A log that a session sees only because it has subscribed to a topic.</summary>
/// <param name="place">The session.</param>
/// <param name="seen">What it sees of the log: one segment; never stored, nothing of it is counted.</param>
/// <param name="home">The log's lists.</param>
sealed class SubscribedLog(SessionPlace place, UserLog seen, LogState home) : RosterItem
{
    public readonly SessionPlace Place = place;
    public readonly UserLog Seen = seen;
    NodeWatch? there;

    /// <summary>The log's address that reaches it.</summary>
    public int AddressIndex => Seen.Segments[0].AddressIndex;

    public string Address => Seen.Log.Texts[AddressIndex];

    /// <summary>Puts it into the log's list.</summary>
    public void Join()
    {
        home.Subscribers.Add(this);
        there = new NodeWatch(Place.User.Node, Place.Session, AddressIndex);
        Place.User.Home.Port.Add(new NodeSubscribe(home.Node, there, Joins: true));
        if (Place.User.Mutes.Count > 0) LookAtEach();
    }

    /// <summary>The user has muted something: from now on notifications are looked at one by one.</summary>
    public void LookAtEach() => home.AddWithMutes(this);

    /// <summary>Takes it out of the log's list, if it is in it.</summary>
    public void Leave()
    {
        if (!home.Subscribers.Remove(this)) return;
        home.RemoveWithMutes(this);
        Place.User.Home.Port.Add(new NodeSubscribe(home.Node, there!, Joins: false));
    }
}
