using System.Security.Claims;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.Identity;
using Rovett.Core;
using Rovett.Core.AddressLogs;
using Rovett.Service.Access;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Console;

/// <summary>Who may use the console, and what: <c>view</c> looks, <c>operate</c> also changes. Signing up by a one-time link,
/// signing in by password, throttled; each sign-in and each refusal is listed.</summary>
public sealed class Operators(AccessStore access, TimeProvider clock)
{
    /// <summary>How long a sign-up link holds.</summary>
    public static readonly TimeSpan LinkHolds = TimeSpan.FromMinutes(15);
    /// <summary>What operators may.</summary>
    public static readonly IReadOnlyList<string> Rights = ["view", "operate"];

    const int MinPassword = 10, LongestAgent = 120;
    static readonly TimeSpan Throttle = TimeSpan.FromMinutes(1);
    // Of one name from one address, of all names from one address, of one name from anywhere.
    static readonly int[] MostFailures = [5, 30, 30];
    readonly PasswordHasher<string> hasher = new();
    readonly Lock gate = new();
    readonly Dictionary<string, (int Failures, DateTimeOffset Since)> failures = [];

    /// <summary>Makes a sign-up link's secret.</summary>
    public string MakeLink(string may)
    {
        var secret = Secrets.NewId();
        access.AddSignupLink(Secrets.Hash(secret), may, StoredTime.From(clock.GetUtcNow() + LinkHolds).Micros);
        return secret;
    }

    /// <summary>The operator of a request; null when nobody is signed in, or who was is an operator no more.</summary>
    public async Task<StoredOperator?> Of(HttpContext context)
    {
        var result = await context.AuthenticateAsync(CookieAuthenticationDefaults.AuthenticationScheme);
        if (!result.Succeeded || result.Principal.Identity?.Name is not { } name || access.FindOperator(name) is not { } found) return null;
        // Another by the same name is somebody else.
        return result.Principal.FindFirstValue("made") == Text(found.Created) ? found : null;
    }

    /// <summary>Lets an operator through who may do so much.</summary>
    /// <exception cref="ProblemException">401: nobody is signed in; 403: that operator may only view.</exception>
    public async Task<StoredOperator> Require(HttpContext context, string may)
    {
        var who = await Of(context) ?? throw new Problem(401, "not-signed-in", "Not signed in", "The console's session has ended.", "Sign in again.").Throw();
        if (may == "operate" && who.May != "operate") throw new Problem(403, "may-only-view", "This operator may only view", $"'{who.Name}' has the right to view, and this changes something.", "Ask an operator who may operate.").Throw();
        return who;
    }

    /// <summary>A form on a foreign page can't set this header, and its script may not, for want of CORS.</summary>
    /// <exception cref="ProblemException">403: the request does not come from the console's page.</exception>
    public static void OwnPageOnly(HttpContext context)
    {
        if (context.Request.Headers["X-Rovett-Console"] != "1") throw new Problem(403, "foreign-page", "Not from the console", "The request does not come from the console's own page.", "Use the console at /console.").Throw();
    }

    /// <summary>Makes an operator by a link, and signs in.</summary>
    public async Task SignUp(HttpContext context, string name, string password, string? link)
    {
        if (link is null || access.SignupLink(Secrets.Hash(link), Now) is not { } may) throw new Problem(403, "link-ended", "The sign-up link does not hold", "It was used, or is older than 15 minutes.", "Restart the service with --console-link to get another.").Throw();
        if (password.Length < MinPassword) throw Problem.Invalid([new FieldError("password", $"must have at least {MinPassword} characters")]).Throw();
        var made = new StoredOperator(name, may, hasher.HashPassword(name, password), Now);
        if (!access.UseSignupLink(Secrets.Hash(link), Now) || !access.AddOperator(made)) throw new Problem(409, "operator-exists", "That operator exists already", $"There is an operator '{name}'.", "Sign in, or choose another name.").Throw();
        await Begin(context, made);
    }

    /// <summary>Signs in.</summary>
    /// <exception cref="ProblemException">401: name or password is not right; 429: too many failed.</exception>
    public async Task SignIn(HttpContext context, string name, string password)
    {
        var address = context.Connection.RemoteIpAddress?.ToString() ?? "";
        string[] keys = [$"{address}\n{name}", address, "\n" + name];
        lock (gate)
        {
            for (int i = 0; i < keys.Length; i++)
            {
                if (failures.TryGetValue(keys[i], out var past) && past.Failures >= MostFailures[i] && clock.GetUtcNow() - past.Since < Throttle)
                    throw new Problem(429, "too-many-sign-ins", "Too many failed sign-ins", "Too many sign-ins failed within a minute.", "Wait a minute.") { RetryAfterSeconds = 60 }.Throw();
            }
        }
        var stored = access.FindOperator(name);
        // The same work whether the operator exists or not.
        bool right = hasher.VerifyHashedPassword(name, stored?.Password ?? Dummy.Value, password) != PasswordVerificationResult.Failed && stored is not null;
        lock (gate)
        {
            if (failures.Count > 10_000) failures.Clear();
            if (right) failures.Remove(keys[0]);
            else
            {
                foreach (var key in keys) failures[key] = failures.TryGetValue(key, out var past) && clock.GetUtcNow() - past.Since < Throttle ? (past.Failures + 1, past.Since) : (1, clock.GetUtcNow());
            }
        }
        if (right) await Begin(context, stored!);
        else
        {
            Note(context, name, false);
            throw new Problem(401, "sign-in-failed", "Name or password is not right", "No operator with this name has this password.", "Try again, or restart the service with --console-link for a new sign-up link.").Throw();
        }
    }

    // Made when first needed: it takes as long as any password's.
    static readonly Lazy<string> Dummy = new(() => new PasswordHasher<string>().HashPassword("", Secrets.NewId()));

    async Task Begin(HttpContext context, StoredOperator who)
    {
        Note(context, who.Name, true);
        await context.SignInAsync(CookieAuthenticationDefaults.AuthenticationScheme, new ClaimsPrincipal(new ClaimsIdentity([new Claim(ClaimTypes.Name, who.Name), new Claim("made", Text(who.Created))], "password")));
        context.Response.StatusCode = 204;
    }

    void Note(HttpContext context, string name, bool signedIn)
    {
        var agent = context.Request.Headers.UserAgent.ToString();
        access.AddSignIn(name, Now, context.Connection.RemoteIpAddress?.ToString() ?? "", agent.Length <= LongestAgent ? agent : agent[..LongestAgent], signedIn);
    }

    static string Text(long number) => number.ToString(System.Globalization.CultureInfo.InvariantCulture);

    long Now => StoredTime.From(clock.GetUtcNow()).Micros;
}
