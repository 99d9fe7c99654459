using Rovett.Core.Addresses;
using Rovett.Core.Ledgers;
using Rovett.Core.Policies;
using Rovett.Core.Wire;

namespace Rovett.Core.Presence;

/// <summary>Who is on the channels that somebody looks at, in one space. Worked out anew when
/// anything stirred since; nothing is counted up and down, so nothing can be counted wrongly. Owned by the ledger's thread.</summary>
sealed class PresenceBoards(SpaceState space)
{
    /// <summary>The most people that are named; of more only the number is told.</summary>
    public const int MostNamed = 200;

    /// <summary>One address that somebody looks at.</summary>
    sealed class Board
    {
        public readonly Dictionary<long, (PresentPerson Person, StoredTime? Gone)> People = [];
        public readonly List<SessionPlace> Watchers = [];
        public bool IsFilled;
    }

    readonly Dictionary<string, Board> boards = [];
    long seen = -1;
    bool anyGone;
    long number;

    /// <summary>A session looks at an address, and is shown who is there by <see cref="Show"/> or in the next round.</summary>
    public void Join(SessionPlace place, string address)
    {
        if (!boards.TryGetValue(address, out var board)) boards[address] = board = new Board();
        board.Watchers.Add(place);
    }

    /// <summary>A session looks at an address no more.</summary>
    public void Leave(SessionPlace place, string address)
    {
        if (boards.TryGetValue(address, out var board) && board.Watchers.Remove(place) && board.Watchers.Count == 0) boards.Remove(address);
    }

    /// <summary>A session is gone.</summary>
    public void Leave(SessionPlace place)
    {
        foreach (var address in place.Watched.Keys) Leave(place, address);
    }

    /// <summary>A session whose user another object stands for now, with what it looked at.</summary>
    public void Rejoin(SessionPlace place)
    {
        foreach (var address in place.Watched.Keys.ToList())
        {
            place.Watched[address] = place.Watched[address] with { Is = ShownAs.Nothing };
            Join(place, address);
            seen = -1;
        }
    }

    /// <summary>Whether a user may see who is on an address now.</summary>
    /// <param name="viewer">The user.</param>
    /// <param name="address">A topic or a role.</param>
    /// <param name="inUse">It is seen already: a grant whose time is up ends with its entry.</param>
    public Decision Decide(UserState viewer, Address address, bool inUse = false)
    {
        if (address.Kind == AddressKind.Topic) return inUse ? space.Topics.InUse(viewer, address.Name, TopicRights.Presence) : space.Topics.Decide(viewer, address.Name, TopicRights.Presence);
        // Who holds a role may see who else does, where the role is set so.
        bool member = viewer.Holds(address.ToString());
        if (member && space.Role(address.Name) is { Presence: true }) return new Decision(true, $"the role '{address.Name}'");
        return new Decision(false, member ? $"the role '{address.Name}' shows nobody (presence)" : $"the user does not hold the role '{address.Name}'");
    }

    /// <summary>Tells whoever looks what changed since the last round.</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="grace">Who comes back within this time was not away.</param>
    public void Round(Ledger ledger, TimeSpan grace)
    {
        if (boards.Count == 0 || (seen == space.Stirred && !anyGone)) return;
        bool stirred = seen != space.Stirred;
        seen = space.Stirred;
        StoredTime now = space.Time, elapsed = space.Due;
        anyGone = false;
        foreach (var (address, board) in boards.ToList())
        {
            var (arrived, left) = stirred ? Compare(board, address, now, elapsed) : ([], []);
            foreach (var (id, (person, gone)) in board.People.Where(p => p.Value.Gone is not null).ToList())
            {
                if (elapsed.Micros - gone!.Value.Micros < grace.TotalMicroseconds)
                {
                    anyGone = true;
                    continue;
                }
                board.People.Remove(id);
                left.Add(person);
            }
            Tell(ledger, address, board, arrived, left, stirred);
        }
    }

    /// <summary>Shows a session that looks at an address all who are there. However many do so at once, who is on a channel of many is worked out by rounds alone.</summary>
    public void Show(Ledger ledger, SessionPlace place, string address)
    {
        var board = boards[address];
        bool stirred = seen != space.Stirred;
        var (arrived, left) = !board.IsFilled || (stirred && board.People.Count <= MostNamed) ? Compare(board, address, space.Time, space.Due) : ([], []);
        if (arrived.Count + left.Count > 0 || !board.IsFilled) Tell(ledger, address, board, arrived, left, stirred);
        else Tell(ledger, address, board, [place], [], [], changed: false);
    }

    /// <summary>What a user may see changed, or may have: a session is shown no more than that from now on.</summary>
    /// <returns>Whether anything that waits to leave for it may have to stay.</returns>
    public bool Prune(Ledger ledger, SessionPlace place)
    {
        bool changed = false;
        foreach (var address in place.Watched.Keys.ToList()) changed |= Prune(ledger, place, address);
        return changed;
    }

    bool Prune(Ledger ledger, SessionPlace place, string address)
    {
        var (shown, decision) = (place.Watched[address], Decide(place.User, Parsed(address), inUse: true));
        if (decision.Allowed && decision.CountOnly == shown.CountOnly) return false;
        ledger.Undo(() => place.Watched[address] = shown);
        if (decision.Allowed)
        {
            place.Watched[address] = Shown.Nothing with { CountOnly = decision.CountOnly };
            seen = -1;
        }
        else
        {
            // It hears that, and nothing of what changed.
            place.Watched.Remove(address);
            Leave(place, address);
            Send(ledger, place, address, Messages.PresenceEnded(address));
        }
        return true;
    }

    /// <summary>Whether what waits to leave for a session, by what its message says it shows, may still be shown.</summary>
    public static bool MayLeave(SessionPlace place, string shows) =>
        shows.StartsWith(Messages.ShowsPeople, StringComparison.Ordinal) ? place.Watched.TryGetValue(shows[Messages.ShowsPeople.Length..], out var shown) && !shown.CountOnly
        : shows.StartsWith(Messages.ShowsCount, StringComparison.Ordinal) && place.Watched.ContainsKey(shows[Messages.ShowsCount.Length..]);

    /// <summary>The users on a channel: by what they hold, and by what single sessions have subscribed to.</summary>
    HashSet<UserState> WhoIsOn(string address)
    {
        var here = space.ConnectedHolders(address).Where(static u => u.Sessions.Exists(static s => !s.Silent)).ToHashSet();
        if (!address.StartsWith("topic:", StringComparison.Ordinal)) return here;
        foreach (var place in space.Subscriptions.On(address["topic:".Length..]))
        {
            if (!place.Silent) here.Add(place.User);
        }
        return here;
    }

    (List<PresentPerson> Arrived, List<PresentPerson> Left) Compare(Board board, string address, StoredTime now, StoredTime elapsed)
    {
        var here = WhoIsOn(address);
        List<PresentPerson> arrived = [], left = [];
        foreach (var user in here)
        {
            if (board.People.TryGetValue(user.PersonId, out var known))
            {
                if (known.Gone is not null) board.People[user.PersonId] = (known.Person, null);
                continue;
            }
            var person = new PresentPerson(user.Id.Value, user.Row.DisplayName, ProfileOf(user, address), now);
            board.People[user.PersonId] = (person, null);
            arrived.Add(person);
        }
        var ids = here.Select(u => u.PersonId).ToHashSet();
        foreach (var (id, (person, gone)) in board.People.ToList())
        {
            if (ids.Contains(id)) continue;
            // Whoever is connected and not on the channel has left it; whoever is not connected may be coming back.
            if (space.Find(id) is null or { Sessions.Count: > 0 })
            {
                board.People.Remove(id);
                left.Add(person);
            }
            else if (gone is null) board.People[id] = (person, elapsed);
        }
        return (arrived, left);
    }

    string ProfileOf(UserState user, string address)
    {
        if (!address.StartsWith("topic:", StringComparison.Ordinal)) return "";
        var topic = address["topic:".Length..];
        var profile = space.Topics.Decide(user, topic, TopicRights.Subscribe).Profile;
        return profile.Length > 0 ? profile : space.Topics.Decide(user, topic, TopicRights.Follow).Profile;
    }

    void Tell(Ledger ledger, string address, Board board, List<PresentPerson> arrived, List<PresentPerson> left, bool stirred)
    {
        bool changed = arrived.Count + left.Count > 0 || !board.IsFilled;
        board.IsFilled = true;
        foreach (var place in stirred ? board.Watchers.ToList() : []) Prune(ledger, place, address);
        Tell(ledger, address, board, board.Watchers, arrived, left, changed);
    }

    void Tell(Ledger ledger, string address, Board board, IReadOnlyList<SessionPlace> watchers, List<PresentPerson> arrived, List<PresentPerson> left, bool changed)
    {
        var people = board.People.Values.Select(p => p.Person).ToList();
        bool tooMany = people.Count > MostNamed;
        ControlMessage? list = null, change = null, count = null;
        foreach (var place in watchers)
        {
            if (!place.Watched.TryGetValue(address, out var shown)) continue;
            bool counts = shown.CountOnly || tooMany;
            if (!changed && shown.Is != ShownAs.Nothing) continue;
            var message = counts ? count ??= Messages.PresenceCount(address, people.Count)
                : shown.Is == ShownAs.People ? change ??= Messages.PresenceChange(address, people.Count, arrived, left)
                : list ??= Messages.PresenceList(address, people);
            bool kept = Send(ledger, place, address, message);
            // What had no room is made good by the whole list in a later round.
            if (!kept) seen = -1;
            place.Watched[address] = shown with { Is = !kept ? ShownAs.Nothing : counts ? ShownAs.Count : ShownAs.People };
        }
    }

    bool Send(Ledger ledger, SessionPlace place, string address, ControlMessage message)
    {
        bool due = place.Session.OfferPassing($"presence {address} {number++}", message, out bool kept);
        if (due) ledger.FlushLater(place.Session);
        return kept;
    }

    static Address Parsed(string text) => Address.OfStored(text);
}
