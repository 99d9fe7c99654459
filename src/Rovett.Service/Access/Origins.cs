using Rovett.Core;

namespace Rovett.Service.Access;

/// <summary>Which pages may talk to the service: its own, and those listed exactly.</summary>
public sealed class Origins(IReadOnlyCollection<string> allowed)
{
    /// <summary>The request's origin; null when it has none, which no browser page can arrange.</summary>
    /// <exception cref="ProblemException">403: a foreign or <c>null</c> origin.</exception>
    public string? Require(HttpContext context)
    {
        var origin = context.Request.Headers.Origin.ToString();
        if (origin.Length == 0) return null;
        if (IsAllowed(context, origin)) return origin;
        throw new Problem(403, "origin-refused", "This page's origin is not allowed", $"The request came from a page of '{(origin.Length <= 100 ? origin : origin[..100] + "…")}'.",
            "Add exactly this origin to the setting 'origins', if the page is yours.").Throw();
    }

    /// <summary>Whether an origin is the service's own, or listed.</summary>
    public bool IsAllowed(HttpContext context, string origin) =>
        allowed.Contains(origin) || (Uri.TryCreate(origin, UriKind.Absolute, out var uri) && uri.Scheme is "http" or "https"
            && string.Equals(origin[(origin.IndexOf("://", StringComparison.Ordinal) + 3)..], context.Request.Host.Value, StringComparison.OrdinalIgnoreCase));
}
