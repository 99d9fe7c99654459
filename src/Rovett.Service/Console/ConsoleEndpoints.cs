using System.Security.Claims;
using System.Text.Json;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.Identity;
using Rovett.Core;
using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Service.Access;
using Rovett.Service.Api;
using Rovett.Service.Live;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Console;

/// <summary>What the operators' console calls: signing up by the one-time link, signing in, and the live view. All but
/// the sign-in needs the session cookie; whatever changes something needs the header that only our own page sends.</summary>
public sealed class ConsoleEndpoints(AccessStore access, SpaceDirectory spaces, Monitor monitor, SessionRegistry sessions, TimeProvider clock)
{
    /// <summary>How long a sign-up link holds.</summary>
    public static readonly TimeSpan LinkHolds = TimeSpan.FromMinutes(15);

    const int MinPassword = 10;
    static readonly TimeSpan Throttle = TimeSpan.FromMinutes(1);
    readonly PasswordHasher<string> hasher = new();
    readonly Lock gate = new();
    readonly Dictionary<string, (int Failures, DateTimeOffset Since)> failures = [];

    /// <summary>Makes a new sign-up link's secret.</summary>
    public string MakeLink()
    {
        var secret = Secrets.NewId();
        access.AddSignupLink(Secrets.Hash(secret), StoredTime.From(clock.GetUtcNow() + LinkHolds).Micros);
        return secret;
    }

    /// <summary><c>GET /console/api/me</c></summary>
    public async Task Me(HttpContext context)
    {
        var user = await Operator(context);
        bool operators = access.HasOperators;
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteString("operator", user);
            json.WriteBoolean("anyOperator", operators);
            json.WriteStartArray("spaces");
            if (user is not null)
            {
                foreach (var space in spaces.All) json.WriteStringValue(space.Name);
            }
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary><c>POST /console/api/sign-up</c></summary>
    public async Task SignUp(HttpContext context)
    {
        OwnPageOnly(context);
        var (name, password, link) = await Fields(context);
        long now = StoredTime.From(clock.GetUtcNow()).Micros;
        if (link is null || !access.HoldsSignupLink(Secrets.Hash(link), now)) throw new Problem(403, "link-ended", "The sign-up link does not hold", "It was used, or is older than 15 minutes.", "Restart the service with --console-link to get another.").Throw();
        if (password.Length < MinPassword) throw Problem.Invalid([new FieldError("password", $"must have at least {MinPassword} characters")]).Throw();
        if (!access.UseSignupLink(Secrets.Hash(link), now) || !access.AddOperator(name, hasher.HashPassword(name, password), now)) throw new Problem(409, "operator-exists", "That operator exists already", $"There is an operator '{name}'.", "Sign in, or choose another name.").Throw();
        await SignIn(context, name);
    }

    /// <summary><c>POST /console/api/sign-in</c></summary>
    public async Task SignIn(HttpContext context)
    {
        OwnPageOnly(context);
        var (name, password, _) = await Fields(context);
        var from = $"{context.Connection.RemoteIpAddress}\n{name}";
        lock (gate)
        {
            if (failures.TryGetValue(from, out var past) && past.Failures >= 5 && clock.GetUtcNow() - past.Since < Throttle)
                throw new Problem(429, "too-many-sign-ins", "Too many failed sign-ins", "Five sign-ins failed within a minute.", "Wait a minute.") { RetryAfterSeconds = 60 }.Throw();
        }
        var stored = access.OperatorPassword(name);
        // The same work whether the operator exists or not.
        bool right = hasher.VerifyHashedPassword(name, stored ?? Dummy, password) != PasswordVerificationResult.Failed && stored is not null;
        lock (gate)
        {
            if (failures.Count > 10_000) failures.Clear();
            if (right) failures.Remove(from);
            else failures[from] = failures.TryGetValue(from, out var past) && clock.GetUtcNow() - past.Since < Throttle ? (past.Failures + 1, past.Since) : (1, clock.GetUtcNow());
        }
        if (!right) throw new Problem(401, "sign-in-failed", "Name or password is not right", "No operator with this name has this password.", "Try again, or restart the service with --console-link for a new sign-up link.").Throw();
        await SignIn(context, name);
    }

    static readonly string Dummy = new PasswordHasher<string>().HashPassword("", Secrets.NewId());

    static async Task SignIn(HttpContext context, string name)
    {
        await context.SignInAsync(CookieAuthenticationDefaults.AuthenticationScheme, new ClaimsPrincipal(new ClaimsIdentity([new Claim(ClaimTypes.Name, name)], "password")));
        context.Response.StatusCode = 204;
    }

    /// <summary><c>POST /console/api/sign-out</c></summary>
    public async Task SignOut(HttpContext context)
    {
        OwnPageOnly(context);
        await context.SignOutAsync(CookieAuthenticationDefaults.AuthenticationScheme);
        context.Response.StatusCode = 204;
    }

    /// <summary><c>GET /console/api/live?space=main</c>: a stream with the whole view whenever it changed, at most four times a second.</summary>
    public async Task Live(HttpContext context)
    {
        if (await Operator(context) is null) throw new Problem(401, "not-signed-in", "Not signed in", "The console's session has ended.", "Sign in again.").Throw();
        var space = spaces.Find(context.Request.Query["space"].ToString() is { Length: > 0 } name ? name : "main") ?? throw new Problem(404, "unknown-space", "No such space", "There is no space by this name.", "Choose another.").Throw();
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
                var now = monitor.Snapshot(space, sessions);
                if (!now.AsSpan().SequenceEqual(last)) await context.Response.BodyWriter.WriteAsync(SseWriter.Event("view", null, last = now), context.RequestAborted);
                else if (++quiet % 20 == 0) await context.Response.BodyWriter.WriteAsync(":\n\n"u8.ToArray(), context.RequestAborted);
            }
            while (!sessions.Closing && await timer.WaitForNextTickAsync(context.RequestAborted));
        }
        catch (OperationCanceledException)
        {
        }
    }

    static async Task<string?> Operator(HttpContext context)
    {
        var result = await context.AuthenticateAsync(CookieAuthenticationDefaults.AuthenticationScheme);
        return result.Succeeded ? result.Principal.Identity?.Name : null;
    }

    /// <summary>A form on a foreign page can't set this header, and its script may not, for want of CORS.</summary>
    static void OwnPageOnly(HttpContext context)
    {
        if (context.Request.Headers["X-Rovett-Console"] != "1") throw new Problem(403, "foreign-page", "Not from the console", "The request does not come from the console's own page.", "Use the console at /console.").Throw();
    }

    static async Task<(string Name, string Password, string? Link)> Fields(HttpContext context)
    {
        using var body = await Json.Read(context);
        var root = body.RootElement;
        string? Field(string field) => root.ValueKind == JsonValueKind.Object && root.TryGetProperty(field, out var value) && JsonText.TryString(value, out var text) && text.Length <= 128 ? text : null;
        var errors = new List<FieldError>();
        if (Field("name") is not { Length: > 0 } name) errors.Add(new FieldError("name", "must be 1 to 128 characters"));
        if (Field("password") is not { Length: > 0 } password) errors.Add(new FieldError("password", "must be 1 to 128 characters"));
        if (errors.Count > 0) throw Problem.Invalid(errors).Throw();
        return (Field("name")!, Field("password")!, Field("link"));
    }
}
