using System.Buffers;
using System.Globalization;
using System.Text.Json;
using Rovett.Service.Access;
using Rovett.Service.Operations;

namespace Rovett.Service.Api;

/// <summary>Answers whatever goes wrong as RFC 9457 documents.</summary>
public static class Problems
{
    /// <summary>Writes a problem as the response.</summary>
    public static async Task Write(HttpContext context, Problem problem)
    {
        if (context.Response.HasStarted) return;
        var response = context.Response;
        response.StatusCode = problem.Status;
        response.ContentType = "application/problem+json";
        if (problem.Status == 413) response.Headers.Connection = "close"; // the rest of the body is not waited for
        if (problem.Status == 401) response.Headers.WWWAuthenticate = "Bearer";
        if (problem.RetryAfterSeconds is { } seconds) response.Headers.RetryAfter = seconds.ToString(CultureInfo.InvariantCulture);
        var buffer = new ArrayBufferWriter<byte>(512);
        await using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            problem.WriteMembers(json);
            json.WriteEndObject();
        }
        await response.BodyWriter.WriteAsync(buffer.WrittenMemory);
    }

    /// <summary>Catches what handlers throw, and gives a body to statuses that have none.</summary>
    public static async Task Middleware(HttpContext context, RequestDelegate next, Refusals refusals, Faults faults)
    {
        try
        {
            await next(context);
            if (!context.Response.HasStarted && context.Response.ContentType is null && context.Response.ContentLength is null && Bare(context) is { } bare) await Write(context, bare);
        }
        catch (ProblemException refused)
        {
            if (refused.Problem.Status == 403 && context.Items[ApiKeys.ActorItem] is (string space, string actor)) Note(context, refusals, faults, space, actor, refused.Problem.Slug);
            await Write(context, refused.Problem);
        }
        catch (BadHttpRequestException bad)
        {
            await Write(context, bad.StatusCode == 413
                ? new Problem(413, "body-too-large", "The body is too large", "The request's body is over the limit maxBodyBytes.", "Send less; put large content behind a link.")
                : new Problem(bad.StatusCode, "bad-request", "The request can't be read", bad.Message, "Check the request's headers and body."));
        }
        catch (Exception error) when (LedgerPump.IsStoreFailure(error) && !context.RequestAborted.IsCancellationRequested)
        {
            faults.StoreFailed(error);
            await Write(context, LedgerPump.StoreFailed());
        }
        catch (OperationCanceledException) when (context.RequestAborted.IsCancellationRequested)
        {
        }
        catch (Exception error)
        {
            faults.Bug(SpaceDirectory.NameOf(context), Template(context), error);
            await Write(context, new Problem(500, "internal", "Something went wrong inside the service", "The request could not be carried out.", "Try again; the operator finds the reason in the service's log."));
        }
    }

    static void Note(HttpContext context, Refusals refusals, Faults faults, string space, string actor, string slug)
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
    static string Template(HttpContext context) => $"{context.Request.Method} {(context.GetEndpoint() as RouteEndpoint)?.RoutePattern.RawText}";

    static Problem? Bare(HttpContext context) => context.Response.StatusCode switch
    {
        404 => new Problem(404, "unknown-path", "No such path", $"Nothing is at {context.Request.Method} {context.Request.Path}.", "See docs/protocol.md for the paths; spaces other than main begin with /s/<space>."),
        405 => new Problem(405, "unknown-method", "The path does not take this method", $"{context.Request.Path} does not take {context.Request.Method}.", $"Use {context.Response.Headers.Allow}."),
        415 => new Problem(415, "unsupported-content", "The body is not JSON", "The Content-Type is not application/json.", "Send 'Content-Type: application/json'."),
        _ => null,
    };
}
