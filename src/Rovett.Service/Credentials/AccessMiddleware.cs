using Rovett.Service.Spaces;

namespace Rovett.Service.Credentials;

/// <summary>Admits a request only with the access that its endpoint's group requires (<see cref="RequiredAccess"/>).</summary>
sealed class AccessMiddleware(RequestDelegate next, SpaceDirectory spaces, ApiKeys keys, Tokens tokens, Operators operators)
{
    public Task Invoke(HttpContext context) => context.GetEndpoint()?.Metadata.GetMetadata<RequiredAccess>() switch
    {
        null => next(context),
        { By: AccessBy.Token } => WithToken(context),
        { By: AccessBy.Operator, Scope: var right } => WithOperator(context, right),
        { By: AccessBy.MainKey, Scope: var scope } => WithKey(context, spaces.Find("main")!, scope),
        { Scope: var scope } => WithKey(context, spaces.Of(context), scope),
    };

    Task WithKey(HttpContext context, SpaceRuntime space, string scope)
    {
        context.Features.Set(new KeyCaller(space, ConsoleDoor.IsPassedBy(context) ? OfOperator(context, space, scope)
            : keys.Require(context, space, scope)));
        return next(context);
    }

    /// <summary>An operator in place of a key.</summary>
    ApiKey OfOperator(HttpContext context, SpaceRuntime space, string scope)
    {
        if (!HttpMethods.IsGet(context.Request.Method)) Operators.OwnPageOnly(context);
        return ConsoleDoor.KeyOf(operators.Require(context, scope == "read" ? "view" : "operate"), space.Name);
    }

    async Task WithToken(HttpContext context)
    {
        var space = spaces.Of(context);
        var token = Bearer.Of(context)
            ?? throw new Problem(401, "token-missing", "A token is missing", "This path is for users and no credential was shown.",
                "Send 'Authorization: Bearer <token>' with a token of the user's: rovett token --user <id> makes one.").ToException();
        context.Features.Set(new UserCaller(space, await tokens.Check(token, space)));
        await next(context);
    }

    Task WithOperator(HttpContext context, string right)
    {
        if (!HttpMethods.IsGet(context.Request.Method)) Operators.OwnPageOnly(context);
        context.Features.Set(operators.Require(context, right));
        return next(context);
    }
}
