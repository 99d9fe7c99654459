using Rovett.Storage.Access;

namespace Rovett.Service.Credentials;

/// <summary>The way of the console's pages to the public API: <c>/console/s/&lt;space&gt;/v1/…</c> is what <c>/v1/…</c> of that space
/// is for API keys, with an operator's session in place of a key. The session's cookie is sent nowhere else.</summary>
sealed class ConsoleDoor
{
    const string Base = "/console", Prefix = Base + "/s/";

    ConsoleDoor()
    {
    }

    /// <summary>Turns a request that comes this way to the API's own path, and marks it.</summary>
    public static void Enter(HttpContext context)
    {
        var request = context.Request;
        if (request.Path.Value is not { } path || !path.StartsWith(Prefix, StringComparison.Ordinal)) return;
        int end = path.IndexOf('/', Prefix.Length);
        if (end < 0 || !path.AsSpan(end).StartsWith("/v1/", StringComparison.Ordinal)) return;
        context.Features.Set(new ConsoleDoor());
        request.PathBase = request.PathBase.Add(Base);
        request.Path = path[Base.Length..];
    }

    /// <summary>Whether a request came this way.</summary>
    public static bool IsPassedBy(HttpContext context) => context.Features.Get<ConsoleDoor>() is not null;

    /// <summary>What an operator may do, as a key: <c>view</c> reads, <c>operate</c> does everything.</summary>
    public static ApiKey KeyOf(StoredOperator who, string space) => new(new StoredApiKey("operator:" + who.Name, space, who.Name,
        who.May == "operate" ? "admin" : "read", "", "", who.Created, null, null, null), "operator:" + who.Name);
}
