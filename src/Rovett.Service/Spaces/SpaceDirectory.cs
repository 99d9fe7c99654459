using System.Collections.Concurrent;
using Rovett.Core.Ledgers;

namespace Rovett.Service.Spaces;

/// <summary>The spaces of this service, by name.</summary>
/// <param name="clock">The clock.</param>
/// <param name="areShared">Several nodes serve them, each its own: none is here until this process has taken it.</param>
public sealed class SpaceDirectory(ServiceClock clock, bool areShared = false)
{
    static readonly TimeSpan NameRests = TimeSpan.FromMinutes(1);
    readonly ConcurrentDictionary<string, SpaceRuntime> spaces = new();
    readonly ConcurrentDictionary<string, long> removed = new();

    /// <summary>Lets a space be found, unless that very space can be found already.</summary>
    public void Add(SpaceRuntime space)
    {
        if (areShared) space.IsHere = false;
        spaces.AddOrUpdate(space.Name, space, (_, known) => known.Id == space.Id ? known : space);
    }

    /// <summary>Removes a space from those that are found; false when it was before.</summary>
    public bool Remove(SpaceRuntime space)
    {
        // Its name rests from the first time on: a reader of the store may find out later than who removed it.
        if (!space.IsNowRemoved()) return false;
        removed[space.Name] = clock.Due.Micros;
        spaces.TryRemove(KeyValuePair.Create(space.Name, space));
        return true;
    }

    /// <summary>Seconds until a name may be given again; null: now. What was under way in the space of that name must
    /// be over by then.</summary>
    public int? RestsFor(string name) => removed.TryGetValue(name, out long at)
        && NameRests - TimeSpan.FromMicroseconds(clock.Due.Micros - at) is var left
        && left > TimeSpan.Zero ? (int)Math.Ceiling(left.TotalSeconds) : null;

    /// <summary>Every space.</summary>
    public IEnumerable<SpaceRuntime> All => spaces.Values;

    /// <summary>The spaces that this process serves.</summary>
    public IEnumerable<SpaceRuntime> Here => spaces.Values.Where(static s => s.IsHere);

    sealed record Requested(string Space);

    /// <summary>Takes the space out of a request's path, once, before anything else looks at it: <c>/s/{space}/v1/…</c>
    /// becomes <c>/v1/…</c>.</summary>
    public static void Enter(HttpContext context)
    {
        var request = context.Request;
        if (request.Path.Value is not { } path || !path.StartsWith("/s/", StringComparison.Ordinal)) return;
        int end = path.IndexOf('/', 3);
        if (end <= 3 || !path.AsSpan(end).StartsWith("/v1/", StringComparison.Ordinal)) return;
        context.Features.Set(new Requested(path[3..end]));
        request.PathBase = request.PathBase.Add(path[..end]);
        request.Path = path[end..];
    }

    /// <summary>The name of a request's space.</summary>
    public static string NameOf(HttpContext context) => context.Features.Get<Requested>()?.Space ?? "main";

    /// <summary>The space of a request.</summary>
    /// <exception cref="ProblemException">404: there is no such space.</exception>
    public SpaceRuntime Of(HttpContext context)
    {
        var name = NameOf(context);
        return Find(name)
            ?? throw new Problem(404, "unknown-space", "No such space", $"No space is called '{name}'.",
            "Check the path: /v1/… for the space main, /s/<space>/v1/… for any other.").ToException();
    }

    /// <summary>A space by its name, or null.</summary>
    public SpaceRuntime? Find(string name) => spaces.GetValueOrDefault(name);
}
