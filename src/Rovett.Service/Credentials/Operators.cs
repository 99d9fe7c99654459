using Microsoft.AspNetCore.Identity;
using Rovett.Core.Ledgers;
using Rovett.Storage.Access;

namespace Rovett.Service.Credentials;

/// <summary>Operators of the console: <c>view</c> looks, <c>operate</c> also changes. Signing up by a one-time link,
/// signing in by password, throttled; each sign-in and each refusal is listed. Sessions are stored, so that they end at once:
/// a cookie is nothing but a random secret.</summary>
public sealed class Operators(AccessStore access, ServiceClock clock)
{
    /// <summary>How long a sign-up link holds.</summary>
    public static readonly TimeSpan LinkHolds = TimeSpan.FromMinutes(15);
    /// <summary>The rights of operators.</summary>
    public static readonly IReadOnlyList<string> Rights = ["view", "operate"];

    const int MinPassword = 10, LongestAgent = 120, MostChecking = 2, MostWaiting = 20;
    const string CookieName = "rovett-console";
    static readonly TimeSpan Throttle = TimeSpan.FromMinutes(1), SessionLasts = TimeSpan.FromHours(12);
    // Of one name from one address, of all names from one address, of one name from anywhere.
    static readonly int[] MostFailures = [5, 30, 30];
    readonly PasswordHasher<string> hasher = new();
    readonly Lock gate = new();
    readonly Dictionary<string, (int Failures, long Since)> failures = [];
    // Checking a password takes a tenth of a second of a core, on purpose: few at a time, or signing in would slow everything else.
    readonly SemaphoreSlim checking = new(MostChecking);
    int waiting;

    /// <summary>Makes a sign-up link's secret.</summary>
    public string MakeLink(string may)
    {
        var secret = Secrets.NewId();
        access.AddSignupLink(Secrets.Hash(secret), may, StoredTime.From(clock.GetUtcNow() + LinkHolds).Micros);
        return secret;
    }

    /// <summary>The operator of a request; null when nobody is signed in, or the session was ended.</summary>
    public StoredOperator? Of(HttpContext context) =>
        context.Request.Cookies[CookieName] is { Length: > 0 and < 100 } secret ? access.FindOperatorOf(Secrets.Hash(secret), Now) : null;

    /// <summary>Extends a session of which more than half is over.</summary>
    public void Extend(HttpContext context)
    {
        if (context.Request.Cookies[CookieName] is { Length: > 0 and < 100 } secret
            && access.ExtendOperatorSession(Secrets.Hash(secret), Now + (long)(SessionLasts / 2).TotalMicroseconds,
            Now + (long)SessionLasts.TotalMicroseconds))
        {
            SetCookie(context, secret);
        }
    }

    /// <summary>Ends the session of a request.</summary>
    public void SignOut(HttpContext context)
    {
        if (context.Request.Cookies[CookieName] is { Length: > 0 and < 100 } secret) access.EndOperatorSession(Secrets.Hash(secret));
        context.Response.Cookies.Delete(CookieName, CookieOptions(context));
    }

    /// <summary>Admits operators with a right.</summary>
    /// <exception cref="ProblemException">401: nobody is signed in; 403: that operator may only view.</exception>
    public StoredOperator Require(HttpContext context, string may)
    {
        var who = Of(context)
            ?? throw new Problem(401, "not-signed-in", "Not signed in", "The console's session has ended.", "Sign in again.").ToException();
        if (may == "operate" && who.May != "operate")
        {
            throw new Problem(403, "may-only-view", "View-only operator",
                $"'{who.Name}' may only view, and this request changes something.", "Ask an operator who may operate.").ToException();
        }
        return who;
    }

    /// <summary>A form on a foreign page can't set this header, and its script may not, for want of CORS.</summary>
    /// <exception cref="ProblemException">403: the request does not come from the console's page.</exception>
    public static void OwnPageOnly(HttpContext context)
    {
        if (context.Request.Headers["X-Rovett-Console"] != "1")
        {
            throw new Problem(403, "foreign-page", "Not from the console", "The request does not come from the console's page.",
                "Use the console at /console.").ToException();
        }
    }

    /// <summary>Makes an operator by a link, and signs in.</summary>
    public async Task SignUp(HttpContext context, string name, string password, string? link)
    {
        if (link is null || access.SignupLink(Secrets.Hash(link), Now) is not { } may)
        {
            throw new Problem(403, "link-ended", "Sign-up link expired", "It was used before, or is older than 15 minutes.",
                "Create another with rovett console link, or restart the service with --console-link.").ToException();
        }
        if (password.Length < MinPassword)
        {
            throw Problem.Invalid([new FieldError("password", $"must have at least {MinPassword} characters")]).ToException();
        }
        var hash = await Checked(() => hasher.HashPassword(name, password));
        var made = new StoredOperator(name, may, hash, Now);
        if (!access.SignUp(Secrets.Hash(link), made, Now))
        {
            throw new Problem(409, "operator-exists", "Operator exists already", $"There is an operator '{name}'.",
                "Choose another name (the link is still valid), or sign in.").ToException();
        }
        Begin(context, made);
    }

    /// <summary>Signs in.</summary>
    /// <exception cref="ProblemException">401: name or password is not right; 429: too many failed.</exception>
    public async Task SignIn(HttpContext context, string name, string password)
    {
        var address = context.Connection.RemoteIpAddress?.ToString() ?? "";
        string[] keys = [$"{address}\n{name}", address, "\n" + name];
        Count(keys); // as failed, until it is known to be right: many at a time are no way around the limit
        var stored = access.FindOperator(name);
        // The same work whether the operator exists or not.
        bool right = await Checked(() => hasher.VerifyHashedPassword(name, stored?.Password ?? Dummy.Value, password))
            != PasswordVerificationResult.Failed && stored is not null;
        if (right)
        {
            lock (gate)
            {
                foreach (var key in keys.Skip(1))
                {
                    if (failures.TryGetValue(key, out var counted)) failures[key] = counted with { Failures = counted.Failures - 1 };
                }
                failures.Remove(keys[0]);
            }
            Begin(context, stored!);
            return;
        }
        Note(context, name, false);
        throw new Problem(401, "sign-in-failed", "Wrong name or password", "No operator with this name has this password.",
            "Try again, or ask for a new sign-up link: rovett console link.").ToException();
    }

    void Count(string[] keys)
    {
        long now = clock.Due.Micros;
        bool IsRecent((int Failures, long Since) past) => now - past.Since < (long)Throttle.TotalMicroseconds;
        lock (gate)
        {
            for (int i = 0; i < keys.Length; i++)
            {
                if (failures.TryGetValue(keys[i], out var past) && past.Failures >= MostFailures[i] && IsRecent(past)) throw TooMany();
            }
            if (failures.Count > 10_000) failures.Clear();
            foreach (var key in keys)
            {
                failures[key] = failures.TryGetValue(key, out var past) && IsRecent(past) ? (past.Failures + 1, past.Since) : (1, now);
            }
        }
    }

    static ProblemException TooMany() =>
        new Problem(429, "too-many-sign-ins", "Too many failed sign-ins", "Too many sign-ins failed within a minute.", "Wait a minute.")
        { RetryAfterSeconds = 60 }.ToException();

    async Task<T> Checked<T>(Func<T> work)
    {
        if (Interlocked.Increment(ref waiting) > MostWaiting)
        {
            Interlocked.Decrement(ref waiting);
            throw TooMany();
        }
        try
        {
            await checking.WaitAsync();
            try
            {
                return await Task.Run(work);
            }
            finally
            {
                checking.Release();
            }
        }
        finally
        {
            Interlocked.Decrement(ref waiting);
        }
    }

    // Made when first needed: it takes as long as any password's.
    static readonly Lazy<string> Dummy = new(() => new PasswordHasher<string>().HashPassword("", Secrets.NewId()));

    void Begin(HttpContext context, StoredOperator who)
    {
        Note(context, who.Name, true);
        var secret = Secrets.New("");
        access.AddOperatorSession(Secrets.Hash(secret), who, Now, Now + (long)SessionLasts.TotalMicroseconds,
            context.Connection.RemoteIpAddress?.ToString() ?? "", Agent(context));
        SetCookie(context, secret);
        context.Response.StatusCode = 204;
    }

    static void SetCookie(HttpContext context, string secret)
    {
        var options = CookieOptions(context);
        options.MaxAge = SessionLasts;
        context.Response.Cookies.Append(CookieName, secret, options);
    }

    // A proxy in front says whether the browser came by TLS. A browser that says so falsely only hides the cookie from itself.
    static CookieOptions CookieOptions(HttpContext context) => new()
    {
        HttpOnly = true,
        SameSite = SameSiteMode.Strict,
        Path = "/console",
        Secure = context.Request.IsHttps || context.Request.Headers["X-Forwarded-Proto"].ToString().Split(',')[0].Trim()
            .Equals("https", StringComparison.OrdinalIgnoreCase),
    };

    static string Agent(HttpContext context) =>
        context.Request.Headers.UserAgent.ToString() is var agent && agent.Length <= LongestAgent ? agent : agent[..LongestAgent];

    void Note(HttpContext context, string name, bool signedIn)
    {
        access.AddSignIn(name, Now, context.Connection.RemoteIpAddress?.ToString() ?? "", Agent(context), signedIn);
    }

    long Now => StoredTime.From(clock.GetUtcNow()).Micros;
}
