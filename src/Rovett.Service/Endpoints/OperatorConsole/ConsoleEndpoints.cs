using System.Text.Json;
using Rovett.Core.Wire.Sse;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Spaces;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>What the operators' console calls: signing up by the one-time link, signing in, and the live view. All but
/// the sign-in needs the session cookie; whatever changes something needs the header that only our own page sends.</summary>
public sealed class ConsoleEndpoints(AccessStore access, Operators operators, SpaceDirectory spaces, ActivityMonitor monitor,
    SessionRegistry sessions, TimeProvider clock)
{
    /// <summary><c>GET /console/api/me</c></summary>
    public async Task Me(HttpContext context)
    {
        var who = operators.Of(context);
        if (who is not null) operators.Extend(context);
        bool any = access.HasOperators;
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteString("operator", who?.Name);
            json.WriteString("may", who?.May);
            json.WriteBoolean("anyOperator", any);
            json.WriteStartArray("spaces");
            if (who is not null)
            {
                foreach (var space in spaces.All.OrderBy(s => s.Id)) json.WriteStringValue(space.Name);
            }
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary><c>POST /console/api/sign-up</c></summary>
    public async Task SignUp(HttpContext context)
    {
        Operators.OwnPageOnly(context);
        var (name, password, link) = await Fields(context);
        await operators.SignUp(context, name, password, link);
    }

    /// <summary><c>POST /console/api/sign-in</c></summary>
    public async Task SignIn(HttpContext context)
    {
        Operators.OwnPageOnly(context);
        var (name, password, _) = await Fields(context);
        await operators.SignIn(context, name, password);
    }

    /// <summary><c>POST /console/api/sign-out</c></summary>
    public Task SignOut(HttpContext context)
    {
        Operators.OwnPageOnly(context);
        operators.SignOut(context);
        context.Response.StatusCode = 204;
        return Task.CompletedTask;
    }

    /// <summary><c>GET /console/api/live?space=main</c>: a stream with the whole view whenever it changed, at most four
    /// times a second.</summary>
    public async Task Live(HttpContext context)
    {
        var space = SpaceOf(spaces, context);
        Connections.IsStream(context);
        context.Response.ContentType = "text/event-stream";
        context.Response.Headers.CacheControl = "no-cache";
        context.Response.Headers["X-Accel-Buffering"] = "no";
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(250), clock);
        byte[] last = [];
        int quiet = 0;
        try
        {
            do
            {
                if (operators.Of(context) is null) return; // signed out, or an operator no more
                var now = monitor.Snapshot(space, sessions);
                if (!now.AsSpan().SequenceEqual(last))
                {
                    await context.Response.BodyWriter.WriteAsync(SseWriter.Event("view", null, last = now), context.RequestAborted);
                }
                else if (++quiet % 20 == 0) await context.Response.BodyWriter.WriteAsync(":\n\n"u8.ToArray(), context.RequestAborted);
            }
            while (!sessions.Closing && !space.IsRemoved && await timer.WaitForNextTickAsync(context.RequestAborted));
        }
        catch (OperationCanceledException)
        {
        }
    }

    internal static SpaceRuntime SpaceOf(SpaceDirectory spaces, HttpContext context) =>
        spaces.Find(context.Request.Query["space"].ToString() is { Length: > 0 } name ? name : "main")
        ?? throw new Problem(404, "unknown-space", "No such space", "No space has this name.", "Choose another.").ToException();

    static async Task<(string Name, string Password, string? Link)> Fields(HttpContext context)
    {
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        string? name = Field(body, "name"), password = Field(body, "password");
        if (name is not { Length: > 0 }) errors.Add(new FieldError("name", "must be 1 to 128 characters"));
        if (password is not { Length: > 0 }) errors.Add(new FieldError("password", "must be 1 to 128 characters"));
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
        return (name!, password!, Field(body, "link"));
    }

    internal static string? Field(JsonDocument body, string field) =>
        body.RootElement.ValueKind == JsonValueKind.Object && body.RootElement.TryGetProperty(field, out var value)
        && JsonText.TryString(value, out var text) && text.Length <= 128 ? text : null;
}
