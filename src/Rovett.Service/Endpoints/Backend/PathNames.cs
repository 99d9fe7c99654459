using Microsoft.AspNetCore.Http.Features;
using Rovett.Core.Addresses;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Names of users and roles, in the path or in the query.</summary>
static class PathNames
{
    /// <summary>A name from the path or the query (<c>.</c> and <c>..</c> are not valid in a path). Null if neither has it.</summary>
    public static string? Named(this HttpContext context, string part)
    {
        if (context.Request.RouteValues[part] is not string name)
        {
            return context.Request.Query.TryGetValue(part, out var query) ? query.ToString() : null;
        }
        // The framework leaves an encoded slash as it is, so that a/b and a%2Fb look alike; only as it was sent they differ.
        bool isSlash = name.Contains("%2F", StringComparison.OrdinalIgnoreCase)
            && context.Features.Get<IHttpRequestFeature>()?.RawTarget.Split('?')[0].Contains("%2F", StringComparison.OrdinalIgnoreCase)
            == true;
        return isSlash ? name.Replace("%2F", "/", StringComparison.OrdinalIgnoreCase) : name;
    }

    /// <summary>A name as it may be stored, whatever the rules for new ones are.</summary>
    /// <exception cref="ProblemException">422: none was named, or nothing can be stored by it.</exception>
    public static string Known(this HttpContext context, string part) =>
        Names.Normal(context.Named(part))
        ?? throw Problem.Invalid([new FieldError(part, "must be 1 to 128 characters")], $"Name it in the path, or as ?{part}=…")
        .ToException();

    /// <summary>The name in the path of a webhook, a decider: as strict as when it was given.</summary>
    /// <exception cref="ProblemException">422: it is no name.</exception>
    public static string NameInPath(this HttpContext context) =>
        Names.Check((string)context.Request.RouteValues["name"]!, false, out var name) is { } wrong
        ? throw Problem.Invalid([new FieldError("name", wrong)]).ToException()
        : name;
}
