using System.Collections.Concurrent;
using Rovett.Core.Addresses;
using Rovett.Core.Policies;
using Rovett.Core.Wire;

namespace Rovett.Core.Presence;

/// <summary>Presence on the watched channels of one space. Recomputed when
/// anything changed; never counted up and down, so counts cannot drift. Owned by the ledger's thread.</summary>
sealed class PresenceBoards(IPresenceSource space)
{
    /// <summary>Above this many people only the number is shown.</summary>
    public const int MostNamed = 200;

    /// <summary>One watched address.</summary>
    sealed class Board
    {
        public readonly Dictionary<long, (PresentPerson Person, StoredTime? Gone)> People = [];
        public readonly List<IPresenceViewer> Watchers = [];
        public bool IsFilled;
    }

    readonly Dictionary<string, Board> boards = [];
    readonly ConcurrentQueue<(IPresenceViewer Place, string Address)> leftOut = new();
    long seen = -1;
    bool anyGone;
    long number;

    /// <summary>Whether anybody watches. Readable from any thread.</summary>
    public bool IsWatched => boards.Count > 0;

    /// <summary>Adds a session as a viewer of an address; <see cref="Show"/> or the next round shows it who is there.</summary>
    public void Join(IPresenceViewer place, string address)
    {
        if (!boards.TryGetValue(address, out var board)) boards[address] = board = new Board();
        board.Watchers.Add(place);
    }

    /// <summary>Removes a viewer of an address.</summary>
    public void Leave(IPresenceViewer place, string address)
    {
        if (boards.TryGetValue(address, out var board) && board.Watchers.Remove(place) && board.Watchers.Count == 0) boards.Remove(address);
    }

    /// <summary>Removes a session.</summary>
    public void Leave(IPresenceViewer place)
    {
        foreach (var address in place.Watched.Keys) Leave(place, address);
    }

    /// <summary>Moves a session to the new object of its user.</summary>
    public void Rejoin(IPresenceViewer place)
    {
        foreach (var address in place.Watched.Keys.ToList())
        {
            place.Watched[address] = place.Watched[address] with { Is = ShownAs.Nothing };
            Join(place, address);
            seen = -1;
        }
    }

    /// <summary>Whether a session's user may see who is on an address's channel now.</summary>
    public Decision Decide(IPresenceViewer viewer, Address address) => space.Decide(viewer, address);

    /// <summary>Sends viewers the changes since the last round.</summary>
    /// <param name="batch">The batch.</param>
    /// <param name="grace">Users who return within this time were not away.</param>
    public void Round(IPresenceBatch batch, TimeSpan grace)
    {
        ShowAgain();
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
            Tell(batch, address, board, arrived, left, stirred);
        }
    }

    /// <summary>Shows a viewer of an address all who are there. However many do so at once, presence on a
    /// large channel is computed by rounds alone.</summary>
    public void Show(IPresenceBatch batch, IPresenceViewer place, string address)
    {
        var board = boards[address];
        bool stirred = seen != space.Stirred;
        var (arrived, left) = !board.IsFilled || (stirred && board.People.Count <= MostNamed)
            ? Compare(board, address, space.Time, space.Due)
            : ([], []);
        if (arrived.Count + left.Count > 0 || !board.IsFilled) Tell(batch, address, board, arrived, left, stirred);
        else Tell(batch, address, board, [place], [], [], changed: false);
    }

    /// <summary>Applies a possible change of what a session's user may see.</summary>
    /// <returns>Whether anything that waits to leave for it may have to stay.</returns>
    public bool Prune(IPresenceBatch batch, IPresenceViewer place)
    {
        bool changed = false;
        foreach (var address in place.Watched.Keys.ToList()) changed |= Prune(batch, place, address);
        return changed;
    }

    bool Prune(IPresenceBatch batch, IPresenceViewer place, string address)
    {
        var (shown, decision) = (place.Watched[address], space.Decide(place, Parsed(address), inUse: true));
        if (decision.Allowed && decision.CountOnly == shown.CountOnly) return false;
        batch.Undo(() => place.Watched[address] = shown);
        if (decision.Allowed)
        {
            place.Watched[address] = Shown.Nothing with { CountOnly = decision.CountOnly };
            seen = -1;
        }
        else
        {
            // The count is sent instead of changes.
            place.Watched.Remove(address);
            Leave(place, address);
            Send(batch, place, address, Messages.PresenceEnded(address));
        }
        return true;
    }

    (List<PresentPerson> Arrived, List<PresentPerson> Left) Compare(Board board, string address, StoredTime now, StoredTime elapsed)
    {
        var here = space.On(address);
        List<PresentPerson> arrived = [], left = [];
        foreach (long id in here)
        {
            if (board.People.TryGetValue(id, out var known))
            {
                if (known.Gone is not null) board.People[id] = (known.Person, null);
                continue;
            }
            var person = space.Describe(id, address, now);
            board.People[id] = (person, null);
            arrived.Add(person);
        }
        foreach (var (id, (person, gone)) in board.People.ToList())
        {
            if (here.Contains(id)) continue;
            // Those who are connected and not on the channel have left it; those who are not connected may be coming back.
            if (!space.MayComeBack(id))
            {
                board.People.Remove(id);
                left.Add(person);
            }
            else if (gone is null) board.People[id] = (person, elapsed);
        }
        return (arrived, left);
    }

    void Tell(IPresenceBatch batch, string address, Board board, List<PresentPerson> arrived, List<PresentPerson> left, bool stirred)
    {
        bool changed = arrived.Count + left.Count > 0 || !board.IsFilled;
        board.IsFilled = true;
        foreach (var place in stirred ? board.Watchers.ToList() : []) Prune(batch, place, address);
        Tell(batch, address, board, board.Watchers, arrived, left, changed);
    }

    void Tell(IPresenceBatch batch, string address, Board board, IReadOnlyList<IPresenceViewer> watchers, List<PresentPerson> arrived,
        List<PresentPerson> left, bool changed)
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
            Send(batch, place, address, message);
            place.Watched[address] = shown with { Is = counts ? ShownAs.Count : ShownAs.People };
        }
    }

    void Send(IPresenceBatch batch, IPresenceViewer place, string address, ControlMessage message) =>
        batch.Pass(place.Session, $"presence {address} {number++}", message, () => leftOut.Enqueue((place, address)));

    /// <summary>Viewers without room are sent the whole list by a later round.</summary>
    void ShowAgain()
    {
        while (leftOut.TryDequeue(out var one))
        {
            if (!one.Place.Watched.TryGetValue(one.Address, out var shown)) continue;
            one.Place.Watched[one.Address] = shown with { Is = ShownAs.Nothing };
            seen = -1;
        }
    }

    static Address Parsed(string text) => Address.OfStored(text);
}
