using Rovett.Core.Addresses;
using Rovett.Core.Policies;
using Rovett.Core.Wire;

namespace Rovett.Core.Presence;

/// <summary>The boards' view of their space.</summary>
interface IPresenceSource
{
    /// <summary>Counts up whenever presence or rights may have changed.</summary>
    long Stirred { get; }
    /// <summary>The space's time.</summary>
    StoredTime Time { get; }
    /// <summary>The due time: never set back.</summary>
    StoredTime Due { get; }
    /// <summary>The numbers of the users on an address's channel.</summary>
    HashSet<long> On(string address);
    /// <summary>A user as others on an address's channel are shown them.</summary>
    PresentPerson Describe(long person, string address, StoredTime since);
    /// <summary>Whether a user is known and not connected.</summary>
    bool MayComeBack(long person);
    /// <summary>Whether a session's user may see who is on an address's channel.</summary>
    /// <param name="viewer">The session.</param>
    /// <param name="address">A topic or a role.</param>
    /// <param name="inUse">It is shown already: an expired grant then counts until its entry.</param>
    Decision Decide(IPresenceViewer viewer, Address address, bool inUse = false);
}
