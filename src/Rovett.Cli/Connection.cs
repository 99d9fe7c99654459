using System.CommandLine;
using System.Text;
using Microsoft.IdentityModel.JsonWebTokens;
using Microsoft.IdentityModel.Tokens;
using Rovett.Client;

namespace Rovett.Cli;

/// <summary>The options that say which service, which space, and as whom.</summary>
sealed class Connection
{
    public readonly Option<string> Url = new("--url")
    {
        Description = "The service's address.",
        DefaultValueFactory = _ => Environment.GetEnvironmentVariable("ROVETT_URL") ?? "http://127.0.0.1:7411"
    };
    public readonly Option<string> Space = new("--space")
    { Description = "Name of the space.", DefaultValueFactory = _ => Environment.GetEnvironmentVariable("ROVETT_SPACE") ?? "main" };
    public readonly Option<bool> Json = new("--json") { Description = "Print JSON." };
    public readonly Option<string?> Key = new("--key")
    { Description = "API key; prefer ROVETT_KEY, which stays out of the shell history." };
    public readonly Option<string?> User = new("--user")
    { Description = "Act as this user, with a short token signed by the token-signing secret." };
    public readonly Option<string[]> Role = new("--role")
    {
        Description = "Role in the token; may be repeated. Default: the user's roles stay unchanged.",
        AllowMultipleArgumentsPerToken = false
    };
    public readonly Option<string?> Token = new("--token") { Description = "Token of the user; or ROVETT_TOKEN." };
    public readonly Option<string?> Secret = new("--secret")
    { Description = "Token-signing secret; prefer ROVETT_TOKEN_SECRET." };

    public void AddBackend(Command command) => Add(command, Url, Space, Key, Json);
    public void AddUser(Command command) => Add(command, User, Role, Token, Secret, Url, Space, Json);

    public static void Add(Command command, params Option[] options)
    {
        foreach (var option in options) command.Options.Add(option);
    }

    public Uri At(ParseResult parsed)
    {
        var text = parsed.GetValue(Url)!;
        if (!Uri.TryCreate(text, UriKind.Absolute, out var uri) || uri.Scheme is not ("http" or "https"))
        {
            throw new UsageException($"--url: '{text}' is not an http(s) URL.", "Write it as http://127.0.0.1:7411.");
        }
        var space = parsed.GetValue(Space) ?? "main"; // commands about spaces have no option that names one
        return space == "main" ? uri : new Uri($"{uri.ToString().TrimEnd('/')}/s/{Uri.EscapeDataString(space)}");
    }

    public RovettClient Backend(ParseResult parsed)
    {
        var key = parsed.GetValue(Key) ?? Environment.GetEnvironmentVariable("ROVETT_KEY");
        if (string.IsNullOrEmpty(key))
        {
            throw new UsageException("An API key is missing.",
                "Set ROVETT_KEY to the key that 'rovett serve' printed when it first started, or give --key.");
        }
        return new RovettClient(At(parsed), key);
    }

    /// <summary>Sees to it that the user this acts as is known: a slip in a name would make another person. Not with a
    /// ready token, which names
    /// somebody; and not without an API key that may read, which nobody has to have.</summary>
    /// <exception cref="UsageException">Nobody is known by it.</exception>
    public async Task RequireKnown(ParseResult parsed, CancellationToken cancel)
    {
        if (parsed.GetValue(Token) is { Length: > 0 } || parsed.GetValue(User) is not { Length: > 0 } user
            || Environment.GetEnvironmentVariable("ROVETT_KEY") is not { Length: > 0 } key)
        {
            return;
        }
        using var backend = new RovettClient(At(parsed), key);
        await RequireKnown(backend, user, "--user",
            "Users are known once they have connected: rovett receive --user " + Output.Quoted(user), cancel);
    }

    /// <summary>Sees to it that a user is known.</summary>
    /// <param name="backend">Asks.</param>
    /// <param name="user">The user's id.</param>
    /// <param name="named">The option that named the user.</param>
    /// <param name="otherwise">The fix if it is intended.</param>
    /// <param name="cancel">Ends the wait.</param>
    /// <exception cref="UsageException">Nobody is known by it.</exception>
    public static async Task RequireKnown(RovettClient backend, string user, string named, string otherwise, CancellationToken cancel)
    {
        try
        {
            await backend.Call(HttpMethod.Get, UserPath(user), cancel: cancel);
        }
        catch (RovettRefusedException refused) when (refused.Slug == "unknown-user")
        {
            var near = refused.Fix.StartsWith("Did you mean", StringComparison.Ordinal)
                ? refused.Fix[..(refused.Fix.IndexOf('?', StringComparison.Ordinal) + 1)] + " "
                : "";
            throw new UsageException($"{named}: nobody is known by '{user}'.", near + otherwise);
        }
        catch (RovettRefusedException refused) when (refused.Status is 401 or 403)
        {
            // This key may not read; what is asked for next says what is wrong with it, if anything is.
        }
    }

    /// <summary>The path to a user. The id goes in the query, because some ids (`.`, `..`) are not valid in a path.</summary>
    public static string UserPath(string user, string act = "") => $"/v1/users{act}?id={Uri.EscapeDataString(user)}";

    public RovettClient AsUser(ParseResult parsed) => new(At(parsed), UserToken(parsed));

    public string UserToken(ParseResult parsed)
    {
        var user = parsed.GetValue(User);
        if ((parsed.GetValue(Token) ?? (user is null ? Environment.GetEnvironmentVariable("ROVETT_TOKEN") : null)) is { Length: > 0 } ready)
            return RequireToken(ready);
        if (string.IsNullOrEmpty(user)) throw new UsageException("User missing.", "Give --user <id>, or a ready --token.");
        return MakeToken(SecretOf(parsed), user, Roles(parsed), TimeSpan.FromHours(1));
    }

    /// <summary>Refuses what is no token.</summary>
    /// <exception cref="UsageException">It has not the three parts of a JWT.</exception>
    public static string RequireToken(string token) => token.Count(c => c == '.') == 2 ? token
        : throw new UsageException("The token does not have the three parts of a JWT.",
        "Use --token with the output of 'rovett token --user <id>', or with a token from your backend.");

    public IReadOnlyList<string>? Roles(ParseResult parsed) => parsed.GetValue(Role) is { Length: > 0 } roles ? roles : null;

    public string SecretOf(ParseResult parsed)
    {
        var secret = parsed.GetValue(Secret) ?? Environment.GetEnvironmentVariable("ROVETT_TOKEN_SECRET");
        if (string.IsNullOrEmpty(secret))
        {
            throw new UsageException("The token-signing secret is missing.",
                "Set ROVETT_TOKEN_SECRET to the secret that 'rovett serve' printed when it first started, or give --secret.");
        }
        return secret;
    }

    /// <summary>Makes a token as a backend would.</summary>
    public static string MakeToken(string secret, string user, IReadOnlyList<string>? roles, TimeSpan lifetime)
    {
        var now = DateTimeOffset.UtcNow;
        var claims = new Dictionary<string, object>
        { ["sub"] = user, ["iat"] = now.ToUnixTimeMilliseconds() / 1000.0, ["exp"] = (now + lifetime).ToUnixTimeSeconds() };
        if (roles is not null) claims["roles"] = roles.ToArray();
        return new JsonWebTokenHandler { SetDefaultTimesOnTokenCreation = false }.CreateToken(new SecurityTokenDescriptor
        {
            Claims = claims,
            SigningCredentials = new SigningCredentials(new SymmetricSecurityKey(Encoding.UTF8.GetBytes(secret)),
                SecurityAlgorithms.HmacSha256),
        });
    }
}
