using Rovett.Core.Catalogues;
using Rovett.Core.Rules;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>The rules of one space, with what is open and set aside of them. Owned by the ledger's thread.</summary>
sealed class EventRules(SpaceState space, ILedgerStore store)
{
    /// <summary>The most gatherings that are open at a time.</summary>
    public const long MaxGatherings = 100_000;
    /// <summary>The most that is set aside at a time.</summary>
    public const long MaxSetAside = 10_000;
    const long MaxSetAsideSize = 64L << 20;

    (long Version, RuleSet Set)? current;
    long? gatherings, asideSize, asideCount;
    bool? keepsFull;

    /// <summary>The rules in force, and their version; 0 when none were loaded.</summary>
    public (long Version, RuleSet Set) Current => current ??= store.RulesUpTo(space.Id, space.Head) is { } stored
        ? (stored.Position, RuleReader.Read(stored.Document, []))
        : (0, RuleSet.None);

    /// <summary>Puts rules in force.</summary>
    public void Load(long version, RuleSet set) => current = (version, set);

    /// <summary>Whether a type in the catalogue has receipts of each person kept.</summary>
    public bool KeepsFullReceipts => keepsFull ??= store.CatalogueUpTo(space.Id, space.Head) is { } stored
        && CatalogueReader.Read(stored.Document, []).KeepsFullReceipts;

    /// <summary>Another catalogue is in force. What is kept in full under the one before goes on being so until the next start.</summary>
    public void Load(Catalogue catalogue) => keepsFull = keepsFull == true || catalogue.KeepsFullReceipts;

    /// <summary>How many gatherings are open.</summary>
    public long Gatherings
    {
        get => gatherings ??= store.CountGatherings(space.Id);
        set => gatherings = value;
    }

    /// <summary>Whether nothing more can be set aside.</summary>
    public bool IsAsideFull
    {
        get
        {
            if (asideCount is null) (asideCount, asideSize) = store.SetAsideSize(space.Id);
            return asideCount >= MaxSetAside || asideSize >= MaxSetAsideSize;
        }
    }

    /// <summary>The answer where that matters.</summary>
    public static Problem AsideFull() => new(503, "set-aside-full", "Too much is set aside",
        "This would be set aside, and nothing more can be.", "Retry or drop what is set aside: GET /v1/set-aside.")
    { RetryAfterSeconds = 30 };

    /// <summary>Something was set aside.</summary>
    public void AddedAside(int characters)
    {
        if (asideCount is null) return;
        asideCount++;
        asideSize += characters;
    }

    /// <summary>Something that was set aside was removed.</summary>
    public void RemovedAside() => asideCount = null;
}
