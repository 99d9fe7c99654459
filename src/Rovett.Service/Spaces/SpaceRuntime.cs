using Rovett.Core.Catalogues;
using Rovett.Core.Notifications;
using Rovett.Core.Wire;

namespace Rovett.Service.Spaces;

/// <summary>A space as the service knows it: its number, its seals, its settings.</summary>
public sealed class SpaceRuntime(int id, string name, CursorSeal cursors, CursorSeal pages, CursorSeal receipts)
{
    /// <summary>The store's number.</summary>
    public int Id { get; } = id;
    /// <summary>Its name.</summary>
    public string Name { get; } = name;
    /// <summary>Seals cursors.</summary>
    public CursorSeal Cursors { get; } = cursors;
    /// <summary>Seals the places in paged lists.</summary>
    public CursorSeal Pages { get; } = pages;
    /// <summary>Seals the places in the receipts.</summary>
    public CursorSeal Receipts { get; } = receipts;
    /// <summary>Its settings.</summary>
    public SpaceSettings Settings { get; set; } = SpaceSettings.Default;

    (long Version, Catalogue Catalogue) types = (0, Catalogue.None);
    readonly Lock typesGate = new();

    /// <summary>The catalogue of types in force, and its version; 0: none was loaded.</summary>
    public (long Version, Catalogue Catalogue) Types
    {
        get
        {
            lock (typesGate) return types;
        }
    }

    /// <summary>A catalogue was loaded; an older one than that in force changes nothing.</summary>
    public void Load(long version, Catalogue catalogue)
    {
        lock (typesGate)
        {
            if (version > types.Version) types = (version, catalogue);
        }
    }

    /// <summary>What holds for types of notification now.</summary>
    /// <param name="receiptsOf">The receipts kept of a type that says nothing of them.</param>
    /// <param name="catalogue">A catalogue in place of that in force.</param>
    public Func<string, TypeTerms> TermsOf(Func<string, ReceiptLevel> receiptsOf, Catalogue? catalogue = null)
    {
        catalogue ??= Types.Catalogue;
        bool isStrict = Settings.StrictTypes;
        return type => catalogue.TermsOf(type, receiptsOf, isStrict);
    }

    /// <summary>Held by who changes what tokens are read for: that must be what the newest policies look at.</summary>
    public SemaphoreSlim PolicyTurn { get; } = new(1);

    volatile IReadOnlyList<string> claimPaths = [];
    int isRemoved;

    /// <summary>It was removed, and its name may be another space's by now.</summary>
    public bool IsRemoved => Volatile.Read(ref isRemoved) != 0;

    /// <summary>Marks it as removed; false when it was already.</summary>
    public bool IsNowRemoved() => Interlocked.Exchange(ref isRemoved, 1) == 0;

    volatile bool isHere = true;

    /// <summary>This process serves it; of several nodes one does at a time.</summary>
    public bool IsHere { get => isHere; set => isHere = value; }

    volatile bool isDeposed;

    /// <summary>Another node has taken it from this one.</summary>
    public bool IsDeposed { get => isDeposed; set => isDeposed = value; }

    long usedAt;
    int uses;

    /// <summary>Marks the start of a request; dispose of the result when the request ends.</summary>
    public Usage Use()
    {
        Interlocked.Increment(ref uses);
        return new Usage(this);
    }

    /// <summary>A request that is under way.</summary>
    public readonly struct Usage(SpaceRuntime space) : IDisposable
    {
        /// <inheritdoc/>
        public void Dispose()
        {
            Volatile.Write(ref space.usedAt, Environment.TickCount64);
            Interlocked.Decrement(ref space.uses);
        }
    }

    /// <summary>How long ago the last request in it ended; zero while one is under way.</summary>
    public TimeSpan Unused => Volatile.Read(ref uses) > 0 ? TimeSpan.Zero
        : TimeSpan.FromMilliseconds(Environment.TickCount64 - Volatile.Read(ref usedAt));

    /// <summary>The claims that its policies look at.</summary>
    public IReadOnlyList<string> ClaimPaths { get => claimPaths; set => claimPaths = value; }

    /// <summary>The prefix of the space's paths before <c>/v1/…</c>.</summary>
    public string PathPrefix => Name == "main" ? "" : "/s/" + Uri.EscapeDataString(Name);
}
