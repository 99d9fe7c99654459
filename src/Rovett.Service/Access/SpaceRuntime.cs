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
    volatile bool isRemoved;

    /// <summary>It was removed: nothing of it holds.</summary>
    public bool IsRemoved { get => isRemoved; set => isRemoved = value; }

    /// <summary>The claims that its policies look at.</summary>
    public IReadOnlyList<string> ClaimPaths { get => claimPaths; set => claimPaths = value; }

    /// <summary>What comes before <c>/v1/…</c> in the space's paths.</summary>
    public string PathPrefix => Name == "main" ? "" : "/s/" + Uri.EscapeDataString(Name);
}

/// <summary>The spaces of this service, by name.</summary>
public sealed class SpaceDirectory(TimeProvider clock)
{
    static readonly TimeSpan NameRests = TimeSpan.FromMinutes(1);
    readonly System.Collections.Concurrent.ConcurrentDictionary<string, SpaceRuntime> spaces = new();
    readonly System.Collections.Concurrent.ConcurrentDictionary<string, DateTimeOffset> removed = new();

    /// <summary>Lets a space be found.</summary>
    public void Add(SpaceRuntime space) => spaces[space.Name] = space;

    /// <summary>Lets a space be found no more.</summary>
    public void Remove(SpaceRuntime space)
    {
        removed[space.Name] = clock.GetUtcNow();
        spaces.TryRemove(KeyValuePair.Create(space.Name, space));
        space.IsRemoved = true;
    }

    /// <summary>Seconds until a name may be given again; null: now. What was under way in the space of that name must be over by then.</summary>
    public int? RestsFor(string name) => removed.TryGetValue(name, out var at) && at + NameRests > clock.GetUtcNow() ? (int)Math.Ceiling((at + NameRests - clock.GetUtcNow()).TotalSeconds) : null;

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
