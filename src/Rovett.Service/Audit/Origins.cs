using System.Net;
using Rovett.Service.Limits;
using Rovett.Service.Spaces;

namespace Rovett.Service.Audit;

/// <summary>An origin that was refused: how often, and when last.</summary>
public sealed record RefusedOrigin(string Origin, long Count, StoredTime Last);

/// <summary>Which pages may talk to the service: its own, and those listed exactly; by a space's own list where it has one.</summary>
public sealed class Origins(Func<IReadOnlyCollection<string>> allowed, SpaceDirectory spaces, TimeProvider clock, ILogger<Origins> log)
{
    const int MostRemembered = 1000, MostOfOneNetwork = 20, LongestShown = 200, LinesPerSecond = 1;

    sealed class Seen(IPAddress from)
    {
        public readonly IPAddress From = from;
        public long Count;
        public StoredTime Last;
    }

    readonly Dictionary<(SpaceRuntime? Space, string Origin), Seen> refused = [];
    readonly Lock gate = new();
    readonly Bucket lines = new(LinesPerSecond, clock);

    /// <summary>The request's origin; null when it has none, which no browser page can arrange.</summary>
    /// <exception cref="ProblemException">403: a foreign or <c>null</c> origin.</exception>
    public string? Require(HttpContext context)
    {
        var origin = context.Request.Headers.Origin.ToString();
        if (origin.Length == 0) return null;
        var space = spaces.Find(SpaceDirectory.NameOf(context)); // null for one that is not known
        if (IsAllowed(context, space, origin)) return origin;
        var shown = Shown(origin);
        if (Note(space, shown, FairRoom.NetworkOf(context.Connection.RemoteIpAddress)) && lines.Take(out _) == TimeSpan.Zero)
            log.LogWarning("A page of {Origin} was refused in space {Space}: its origin is not in 'origins'. Should the page be yours, " +
                "add it; 'rovett status' lists what was refused", shown, space?.Name ?? "(unknown)");
        throw new Problem(403, "origin-refused", "Origin not allowed", $"The request came from a page of '{shown}'.",
            space?.Settings.Origins is null ? "Add exactly this origin to the setting 'origins', if the page is yours."
            : "Add exactly this origin to the space's setting 'origins' (PATCH /v1/settings), if the page is yours.").ToException();
    }

    /// <summary>On one line, and not longer than anybody reads.</summary>
    static string Shown(string origin)
    {
        var line = string.Concat(origin.Take(LongestShown).Select(c => char.IsControl(c) ? '?' : c));
        return origin.Length <= LongestShown ? line : line + "…";
    }

    /// <summary>Counts it. Should too many be remembered, the one seen least often goes that was seen last longest ago;
    /// of one network first of all its own.</summary>
    /// <returns>Whether it is new.</returns>
    bool Note(SpaceRuntime? space, string origin, IPAddress from)
    {
        lock (gate)
        {
            var now = StoredTime.From(clock.GetUtcNow());
            bool isNew = !refused.TryGetValue((space, origin), out var seen);
            if (isNew)
            {
                var own = refused.Where(r => r.Value.From.Equals(from)).ToList();
                if (own.Count >= MostOfOneNetwork) refused.Remove(LeastSeen(own));
                else if (refused.Count >= MostRemembered) refused.Remove(LeastSeen(refused));
                refused[(space, origin)] = seen = new Seen(from);
            }
            seen!.Count++;
            seen.Last = now;
            return isNew;
        }
    }

    static (SpaceRuntime?, string) LeastSeen(IEnumerable<KeyValuePair<(SpaceRuntime?, string), Seen>> among) =>
        among.MinBy(r => (r.Value.Count, r.Value.Last.Micros)).Key;

    // The lists are for applications' pages; the console has its own page and no other.
    bool IsAllowed(HttpContext context, SpaceRuntime? space, string origin) =>
        (!context.Request.Path.StartsWithSegments("/console") && (space?.Settings.Origins ?? allowed()).Contains(origin))
        || (Uri.TryCreate(origin, UriKind.Absolute, out var uri) && uri.Scheme is "http" or "https"
            && string.Equals(origin[(origin.IndexOf("://", StringComparison.Ordinal) + 3)..], context.Request.Host.Value,
            StringComparison.OrdinalIgnoreCase));

    /// <summary>Refusals in a space since the start, the most frequent first.</summary>
    public IReadOnlyList<RefusedOrigin> Refused(SpaceRuntime space)
    {
        lock (gate)
        {
            return [.. refused.Where(r => r.Key.Space == space).Select(r => new RefusedOrigin(r.Key.Origin, r.Value.Count, r.Value.Last))
                .OrderByDescending(r => r.Count)];
        }
    }
}
