using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Meters;
using Rovett.Service.Spaces;

namespace Rovett.Service.Hosting;

/// <summary>Answers whatever goes wrong in a request as an RFC 9457 document: refusals, store failures and bugs each in
/// their own way.</summary>
sealed class ProblemMiddleware(RequestDelegate next, Refusals refusals, SpaceDirectory spaces, ServiceMeters meters,
    Faults faults)
{
    /// <summary>Catches what handlers throw, and gives a body to statuses that have none.</summary>
    public async Task Invoke(HttpContext context)
    {
        try
        {
            await next(context);
            if (!context.Response.HasStarted && context.Response.ContentType is null && context.Response.ContentLength is null
                && Bare(context) is { } bare)
            {
                await Problems.Write(context, bare);
            }
        }
        catch (ProblemException refused)
        {
            if (refused.Problem.Status == 403 && context.Items[ApiKeys.ActorItem] is (string of, string actor))
            {
                Note(context, of, actor, refused.Problem.Slug);
            }
            if (context.GetEndpoint() is not null && spaces.Find(SpaceDirectory.NameOf(context)) is { } space)
                meters.Refused(space.Name, refused.Problem.Slug);
            await Problems.Write(context, refused.Problem);
        }
        catch (BadHttpRequestException bad)
        {
            await Problems.Write(context, bad.StatusCode == 413
                ? new Problem(413, "body-too-large", "Body too large", "The request's body is over the limit maxBodyBytes.",
                "Send less; put large content behind a link.")
                : new Problem(400, "bad-request", "Malformed request", bad.Message, "Check the request's headers and body.")
                    with
                { Status = bad.StatusCode });
        }
        catch (Exception gone) when (gone is OperationCanceledException or IOException && context.RequestAborted.IsCancellationRequested)
        {
        }
        catch (Exception error) when (LedgerPump.IsStoreFailure(error))
        {
            faults.StoreFailed(error);
            await Problems.Write(context, LedgerPump.StoreFailed(error));
        }
        catch (Exception error)
        {
            var request = RequestOf(context);
            faults.Bug(SpaceDirectory.NameOf(context), Template(context), error, request);
            await Problems.Write(context,
                new Problem(500, "internal", "Internal error", "The request failed because of a bug in the service.",
                "Try again. Operators: the service log has the stack.")
                { Request = request });
        }
    }

    /// <summary>The id that a proxy gave the request, or the server's own.</summary>
    static string RequestOf(HttpContext context) =>
        context.Request.Headers["X-Request-Id"].ToString() is { Length: > 0 and <= 100 } given && given.All(c =>
            char.IsAsciiLetterOrDigit(c) || c is '-' or '_' or '.')
        ? given : context.TraceIdentifier;

    void Note(HttpContext context, string space, string actor, string slug)
    {
        try
        {
            refusals.NoteKey(space, actor, slug, Template(context));
        }
        catch (Exception error)
        {
            faults.Thrown(space, "audit of a refusal", error);
        }
    }

    /// <summary>The method and the path's pattern; not the path, which may name people.</summary>
    static string Template(HttpContext context) =>
        $"{context.Request.Method} {(context.GetEndpoint() as RouteEndpoint)?.RoutePattern.RawText}";

    static Problem? Bare(HttpContext context) => context.Response.StatusCode switch
    {
        404 => new Problem(404, "unknown-path", "No such path", $"No endpoint at {context.Request.Method} {context.Request.Path}.",
            "See docs/protocol.md for the paths; spaces other than main begin with /s/<space>."),
        405 => new Problem(405, "unknown-method", "Method not allowed",
            $"{context.Request.Path} does not support {context.Request.Method}.", $"Use {context.Response.Headers.Allow}."),
        415 => new Problem(415, "unsupported-content", "The body is not JSON", "The Content-Type is not application/json.",
            "Send 'Content-Type: application/json'."),
        _ => null,
    };
}
