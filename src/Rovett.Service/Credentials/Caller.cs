using Rovett.Service.Spaces;
using Rovett.Storage.Access;

namespace Rovett.Service.Credentials;

/// <summary>A backend that calls, and the space it calls in.</summary>
public sealed record KeyCaller(SpaceRuntime Space, ApiKey Key);

/// <summary>A user who calls, and the space it is in.</summary>
public sealed record UserCaller(SpaceRuntime Space, Credential Credential);

/// <summary>Who calls, once <see cref="AccessMiddleware"/> has let the request through.</summary>
static class CallerExtensions
{
    /// <summary>The backend of an endpoint for keys.</summary>
    public static KeyCaller KeyCaller(this HttpContext context) => Required<KeyCaller>(context);

    /// <summary>The user of an endpoint for tokens.</summary>
    public static UserCaller UserCaller(this HttpContext context) => Required<UserCaller>(context);

    /// <summary>The operator of an endpoint of the console.</summary>
    public static StoredOperator Operator(this HttpContext context) => Required<StoredOperator>(context);

    static T Required<T>(HttpContext context) where T : class =>
        context.Features.Get<T>() ?? throw new InvalidOperationException($"The endpoint's group requires no {typeof(T).Name}.");
}
