using Microsoft.Extensions.FileProviders;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Http;

namespace Rovett.Service.Hosting;

/// <summary>The pages that the service serves itself.</summary>
static class Pages
{
    static string BuiltFiles => Path.Combine(AppContext.BaseDirectory, "wwwroot");

    public static void MapPages(this IEndpointRouteBuilder routes)
    {
        routes.MapGet("/", (RequestDelegate)(context => context.Response.WriteAsync(
            $"Rovett {ServiceInfo.Version} is running. Console: /console. API reference: /reference. The API is under /v1.\n")));
        MapFolder(routes, "/console", Path.Combine(BuiltFiles, "console"));
        MapFolder(routes, "/reference", Path.Combine(BuiltFiles, "console"), "reference.html");
        routes.MapGet("/rovett.js", (RequestDelegate)ClientForPages);
    }

    /// <summary>The client in one file, for pages without a bundler: those whose origin is allowed.</summary>
    static Task ClientForPages(HttpContext context)
    {
        var file = new FileInfo(Path.Combine(BuiltFiles, "rovett.js"));
        if (!file.Exists)
        {
            throw new Problem(404, "pages-not-built", "The client is not built", "This build has no /rovett.js.",
                "Run 'make build' and start again.").ToException();
        }
        context.Response.ContentType = "text/javascript; charset=utf-8";
        context.Response.Headers.XContentTypeOptions = "nosniff";
        context.Response.Headers.CacheControl = "no-cache";
        return context.Response.SendFileAsync(file.FullName);
    }

    /// <summary>Serves a folder of built pages, with a policy under which they load nothing from elsewhere.</summary>
    static void MapFolder(IEndpointRouteBuilder routes, string path, string folder, string start = "index.html")
    {
        if (!Directory.Exists(folder))
        {
            routes.MapGet(path,
                (RequestDelegate)(context =>
                Problems.Write(context,
                new Problem(404, "pages-not-built", "These pages are not built", $"{path} has no pages in this build.",
                "Run 'make build' and start again."))));
            return;
        }
        var files = new PhysicalFileProvider(folder);
        routes.MapGet(path, (RequestDelegate)(context => Serve(context, start)));
        routes.MapGet(path + "/{**file}",
            (RequestDelegate)(context => Serve(context, (string?)context.Request.RouteValues["file"] ?? start)));

        async Task Serve(HttpContext context, string name)
        {
            var file = files.GetFileInfo(name);
            // Names of people and types in the pages' addresses may hold dots.
            bool isAsset = name.StartsWith("assets/", StringComparison.Ordinal);
            if (!file.Exists || file.IsDirectory) file = files.GetFileInfo(isAsset ? "missing" : start);
            if (!file.Exists)
            {
                context.Response.StatusCode = 404;
                return;
            }
            context.Response.ContentType = Path.GetExtension(file.Name) switch
            {
                ".html" => "text/html; charset=utf-8",
                ".js" => "text/javascript; charset=utf-8",
                ".css" => "text/css; charset=utf-8",
                ".svg" => "image/svg+xml",
                ".woff2" => "font/woff2",
                ".json" => "application/json",
                _ => "application/octet-stream"
            };
            // The page's own styles are told by a number that each answer has its own.
            var nonce = file.Name == "index.html" ? Secrets.NewId() : null;
            context.Response.Headers.ContentSecurityPolicy =
                $"default-src 'none'; script-src 'self'; style-src 'self'{(nonce is null ? "" : $" 'nonce-{nonce}'")}; font-src 'self'; " +
                $"img-src 'self' data:; connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
            context.Response.Headers["X-Frame-Options"] = "DENY";
            context.Response.Headers.XContentTypeOptions = "nosniff";
            context.Response.Headers["Referrer-Policy"] = "no-referrer";
            context.Response.Headers.CacheControl = isAsset
                ? "public, max-age=31536000, immutable"
                : "no-cache";
            if (nonce is null) await context.Response.SendFileAsync(file);
            else
            {
                await context.Response.WriteAsync(
                    (await File.ReadAllTextAsync(file.PhysicalPath!, context.RequestAborted)).Replace("%nonce%", nonce,
                    StringComparison.Ordinal), context.RequestAborted);
            }
        }
    }
}
