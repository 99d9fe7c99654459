using Rovett.Core.AddressLogs;

namespace Rovett.Service.Access;

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
    /// <summary>What it is set to.</summary>
    public SpaceSettings Settings { get; set; } = SpaceSettings.Default;

    volatile IReadOnlyList<string> claimPaths = [];

    /// <summary>The claims that its policies look at.</summary>
    public IReadOnlyList<string> ClaimPaths { get => claimPaths; set => claimPaths = value; }

    /// <summary>What comes before <c>/v1/…</c> in the space's paths.</summary>
    public string PathPrefix => Name == "main" ? "" : "/s/" + Uri.EscapeDataString(Name);
}

/// <summary>The spaces of this service, by name.</summary>
public sealed class SpaceDirectory(IReadOnlyDictionary<string, SpaceRuntime> spaces)
{
    /// <summary>Every space.</summary>
    public IEnumerable<SpaceRuntime> All => spaces.Values;

    /// <summary>The space of a request: the route's <c>space</c>, or <c>main</c>.</summary>
    /// <exception cref="Core.ProblemException">404: there is no such space.</exception>
    public SpaceRuntime Of(HttpContext context)
    {
        var name = context.Request.RouteValues.TryGetValue("space", out var value) ? (string)value! : "main";
        return Find(name) ?? throw new Core.Problem(404, "unknown-space", "No such space", $"There is no space '{name}'.", "Check the path: /v1/… is the space main, /s/<space>/v1/… any other.").Throw();
    }

    /// <summary>A space by its name, or null.</summary>
    public SpaceRuntime? Find(string name) => spaces.GetValueOrDefault(name);
}
