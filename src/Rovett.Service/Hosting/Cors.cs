using Rovett.Service.Audit;

namespace Rovett.Service.Hosting;

/// <summary>CORS by exact origins (Fetch standard): what a page of a listed origin may do. Not the framework's, because
/// origins are per space, change at run time, and a refused one is counted and answered with its reason.</summary>
sealed class Cors(RequestDelegate next, Origins origins)
{
    public Task Invoke(HttpContext context)
    {
        var origin = context.Request.Headers.Origin.ToString();
        if (origin.Length == 0) return next(context);
        context.Response.Headers.Vary = "Origin";
        origins.Require(context);
        var headers = context.Response.Headers;
        headers.AccessControlAllowOrigin = origin;
        headers.AccessControlExposeHeaders = "ETag, Link, Retry-After";
        if (context.Request.Method != HttpMethods.Options || !context.Request.Headers.ContainsKey("Access-Control-Request-Method"))
        {
            return next(context);
        }
        headers.AccessControlAllowMethods = "GET, POST, PUT, PATCH, DELETE";
        headers.AccessControlAllowHeaders = "Authorization, Content-Type, If-Match, Last-Event-ID, Prefer";
        headers.AccessControlMaxAge = "600";
        context.Response.StatusCode = 204;
        return Task.CompletedTask;
    }
}
