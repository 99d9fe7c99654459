using System.Collections.Concurrent;
using System.Text.Json;
using Rovett.Core;
using Rovett.Core.AddressLogs;

namespace Rovett.Service.Access;

/// <summary>An origin that was refused: how often, and when last.</summary>
public sealed record RefusedOrigin(string Origin, long Count, StoredTime Last)
{
    /// <summary>Writes it, with the setting that would allow it.</summary>
    public void Write(Utf8JsonWriter json, SpaceRuntime space)
    {
        json.WriteStartObject();
        json.WriteString("origin", Origin);
        json.WriteNumber("count", Count);
        json.WriteString("last", Last.ToString());
        json.WriteString("mend", $"Add it to 'origins': PATCH {space.PathPrefix}/v1/settings for this space, or the service's configuration for all.");
        json.WriteEndObject();
    }
}

/// <summary>Which pages may talk to the service: its own, and those listed exactly; by a space's own list where it has one.</summary>
public sealed class Origins(IReadOnlyCollection<string> allowed, SpaceDirectory spaces, TimeProvider clock)
{
    const int MostRemembered = 1000, LongestShown = 200;

    readonly ConcurrentDictionary<(SpaceRuntime? Space, string Origin), (long Count, StoredTime Last)> refused = new();

    /// <summary>The request's origin; null when it has none, which no browser page can arrange.</summary>
    /// <exception cref="ProblemException">403: a foreign or <c>null</c> origin.</exception>
    public string? Require(HttpContext context)
    {
        var origin = context.Request.Headers.Origin.ToString();
        if (origin.Length == 0) return null;
        var space = spaces.Find(SpaceDirectory.NameOf(context)); // null for one that is not known
        if (IsAllowed(context, space, origin)) return origin;
        var shown = origin.Length <= LongestShown ? origin : origin[..LongestShown] + "…";
        var key = (space, shown);
        if (refused.ContainsKey(key) || refused.Count < MostRemembered)
        {
            var now = StoredTime.From(clock.GetUtcNow());
            refused.AddOrUpdate(key, (1, now), (_, before) => (before.Count + 1, now));
        }
        throw new Problem(403, "origin-refused", "This page's origin is not allowed", $"The request came from a page of '{shown}'.",
            space?.Settings.Origins is null ? "Add exactly this origin to the setting 'origins', if the page is yours." : "Add exactly this origin to the space's setting 'origins' (PATCH /v1/settings), if the page is yours.").Throw();
    }

    // The lists are for applications' pages; the console has its own page and no other.
    bool IsAllowed(HttpContext context, SpaceRuntime? space, string origin) => (!context.Request.Path.StartsWithSegments("/console") && (space?.Settings.Origins ?? allowed).Contains(origin))
        || (Uri.TryCreate(origin, UriKind.Absolute, out var uri) && uri.Scheme is "http" or "https"
            && string.Equals(origin[(origin.IndexOf("://", StringComparison.Ordinal) + 3)..], context.Request.Host.Value, StringComparison.OrdinalIgnoreCase));

    /// <summary>What was refused in a space since the start, most often first.</summary>
    public IReadOnlyList<RefusedOrigin> Refused(SpaceRuntime space) =>
        [.. refused.Where(r => r.Key.Space == space).Select(r => new RefusedOrigin(r.Key.Origin, r.Value.Count, r.Value.Last)).OrderByDescending(r => r.Count)];
}
