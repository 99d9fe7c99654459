namespace Rovett.Service.Credentials;

/// <summary>Access to an endpoint.</summary>
public enum AccessBy
{
    /// <summary>A backend, with an API key of the request's space.</summary>
    Key,
    /// <summary>A backend, with an API key of the space <c>main</c>.</summary>
    MainKey,
    /// <summary>A user, with a token.</summary>
    Token,
    /// <summary>An operator who is signed in to the console.</summary>
    Operator,
}

/// <summary>The credential that an endpoint requires; enforced by <see cref="AccessMiddleware"/> before the endpoint runs.</summary>
/// <param name="By">By what.</param>
/// <param name="Scope">The key's scope, or the operator's right; empty for tokens.</param>
public sealed record RequiredAccess(AccessBy By, string Scope);

/// <summary>Declares what callers of a group of endpoints must show.</summary>
static class RequiredAccessExtensions
{
    /// <summary>A group for backends with an API key that has a scope.</summary>
    public static RouteGroupBuilder ForKeys(this IEndpointRouteBuilder routes, string scope) =>
        Group(routes, new RequiredAccess(AccessBy.Key, scope));

    /// <summary>A group for backends with an API key of the space <c>main</c> that has a scope.</summary>
    public static RouteGroupBuilder ForMainKeys(this IEndpointRouteBuilder routes, string scope) =>
        Group(routes, new RequiredAccess(AccessBy.MainKey, scope));

    /// <summary>A group for users with a token.</summary>
    public static RouteGroupBuilder ForUsers(this IEndpointRouteBuilder routes) => Group(routes, new RequiredAccess(AccessBy.Token, ""));

    /// <summary>A group for operators of the console who have a right.</summary>
    public static RouteGroupBuilder ForOperators(this IEndpointRouteBuilder routes, string right) =>
        Group(routes, new RequiredAccess(AccessBy.Operator, right));

    static RouteGroupBuilder Group(IEndpointRouteBuilder routes, RequiredAccess access)
    {
        var group = routes.MapGroup("");
        group.WithMetadata(access);
        return group;
    }
}
