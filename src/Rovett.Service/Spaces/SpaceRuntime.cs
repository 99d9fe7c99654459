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

    volatile IReadOnlyList<string> claimPaths = [];
    volatile bool isRemoved;

    /// <summary>Removes a space and everything known about it.</summary>
    public bool IsRemoved { get => isRemoved; set => isRemoved = value; }

    /// <summary>The claims that its policies look at.</summary>
    public IReadOnlyList<string> ClaimPaths { get => claimPaths; set => claimPaths = value; }

    /// <summary>The prefix of the space's paths before <c>/v1/…</c>.</summary>
    public string PathPrefix => Name == "main" ? "" : "/s/" + Uri.EscapeDataString(Name);
}
