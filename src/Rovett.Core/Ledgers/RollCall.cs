using Rovett.Core.Marks;
using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>Works out who, of everyone who can see a notification, has not reached a state, a few people at a time: a role may be large,
/// and other work should not wait for all of it. Kept in memory only; starts over after a failure.</summary>
/// <param name="placements">Where the notification is.</param>
/// <param name="kind">The state.</param>
sealed class RollCall(IReadOnlyList<Placement> placements, MarkKind kind)
{
    const int Page = 50;

    readonly HashSet<long> seen = []; // of the log that is looked at: who holds several of its addresses counts once
    int place, address;
    long after;

    /// <summary>The people found missing so far.</summary>
    public List<string> Missing { get; } = [];

    /// <summary>Whether to stop at the first person found missing.</summary>
    public bool OnlyFirst { get; init; }

    bool IsEnough => OnlyFirst && Missing.Count > 0;

    /// <summary>Looks at some more people.</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="space">The space.</param>
    /// <param name="people">How many it may look at; what is left of it.</param>
    /// <returns>False when some are left for another call.</returns>
    public bool GoOn(Ledger ledger, SpaceState space, ref int people)
    {
        for (; place < placements.Count && !IsEnough; place++, address = 0, seen.Clear())
        {
            var log = space.Log(placements[place].Log);
            if (log.Audience is null)
            {
                if (people <= 0) return false;
                if (space.Find(log.Addresses[0].Name) is { } owner) Look(space, log, owner);
                people--;
                continue;
            }
            for (; address < log.Texts.Length; address++, after = 0)
            {
                while (!IsEnough)
                {
                    if (people <= 0) return false;
                    var page = ledger.Store.Holders(space.Id, log.Texts[address], after, Math.Min(Page, people));
                    if (page.Count == 0) break;
                    ReadAhead(ledger, space, page);
                    foreach (var (person, name) in page)
                    {
                        if ((log.Texts.Length == 1 || seen.Add(person)) && space.Find(name) is { } user) Look(space, log, user);
                    }
                    after = page[^1].Person;
                    people -= page.Count;
                }
            }
        }
        return true;
    }

    void Look(SpaceState space, AddressLog log, UserState user)
    {
        long ordinal = placements[place].Ordinal;
        if (space.UserLogs.Ensure(user).Find(l => l.Log == log) is not { } own || own.SegmentOf(ordinal) is null) return;
        var marks = kind switch { MarkKind.Read => own.Read, MarkKind.Handled => own.Handled, _ => own.Received };
        if (!marks.Contains(ordinal)) Missing.Add(user.Id.Value);
    }

    static void ReadAhead(Ledger ledger, SpaceState space, IReadOnlyList<(long Person, string User)> page)
    {
        if (!ledger.Store.ReadsAhead) return;
        var ahead = new AheadList();
        foreach (var (_, name) in page)
        {
            if (space.InMemory(name) is not { Logs: not null }) ahead.Add(name);
        }
        if (!ahead.IsEmpty) ledger.Store.ReadAhead(space.Id, ahead);
    }
}
