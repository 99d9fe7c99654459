using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>Reads what a session that is behind must be given; any number of threads.</summary>
public interface IHistoryReader
{
    /// <summary>The next entries of a user after a position, oldest first: notifications that are alive, and what became
    /// of any.</summary>
    /// <param name="plan">What the user may see.</param>
    /// <param name="space">The space's number.</param>
    /// <param name="after">Positions up to here are left out.</param>
    /// <param name="limit">The most to find.</param>
    /// <param name="first">For a device that named no cursor; null: leave nothing out.</param>
    /// <param name="known">Finds an entry already in memory, so that its body need not be read.</param>
    (List<FoundEntry> Items, bool More) After(ReadPlan plan, int space, long after, int limit, FirstVisit? first,
        Func<long, OutgoingEntry?> known);

    /// <summary>Where a device that named no cursor begins, and its first page, as <see cref="After"/> finds it: one
    /// reading of one moment.</summary>
    /// <param name="plan">What the user may see.</param>
    /// <param name="space">The space's number.</param>
    /// <param name="limit">The most to find.</param>
    /// <param name="known">Finds an entry already in memory.</param>
    FirstPage First(ReadPlan plan, int space, int limit, Func<long, OutgoingEntry?> known);
}
