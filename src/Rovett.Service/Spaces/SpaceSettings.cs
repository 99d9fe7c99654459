using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Core.Ledgers;
using Rovett.Core.Notifications;

namespace Rovett.Service.Spaces;

/// <summary>What a space is set to by its own backend, at run time. Changed by JSON merge patch (RFC 7396): a member that
/// is null goes back to its default.</summary>
public sealed record SpaceSettings
{
    /// <summary>The signature algorithms there are (RFC 7518, RFC 8037).</summary>
    public static readonly IReadOnlyList<string> KnownAlgorithms = ["HS256", "RS256", "ES256", "EdDSA"];

    /// <summary>Nothing is set.</summary>
    public static readonly SpaceSettings Default = new();

    static readonly TimeSpan MostRepeatsKept = TimeSpan.FromDays(90);

    static readonly string[] MailMembers = ["host", "port", "security", "user", "password", "from", "fromName", "domains", "perHour",
        "linkBase"];
    static readonly string[] TokenMembers = ["audiences", "algorithms", "userClaim", "rolesClaim", "clockSkewSeconds", "maxLifeSeconds"];

    /// <summary>A token must name one of these as its audience; empty: any or none will do.</summary>
    public IReadOnlyList<string> Audiences { get; init; } = [];
    /// <summary>The algorithms that tokens may be signed with.</summary>
    public IReadOnlyList<string> Algorithms { get; init; } = KnownAlgorithms;
    /// <summary>Where a token names the user: a claim, or a JSON Pointer (RFC 6901) into the claims.</summary>
    public string UserClaim { get; init; } = "sub";
    /// <summary>Where a token names the roles: a claim, or a JSON Pointer.</summary>
    public string RolesClaim { get; init; } = "roles";
    /// <summary>How far the clocks of who makes tokens and of this service may be apart.</summary>
    public TimeSpan ClockSkew { get; init; } = TimeSpan.FromSeconds(30);
    /// <summary>The longest a token may hold, from <c>iat</c> to <c>exp</c>.</summary>
    public TimeSpan MaxTokenLife { get; init; } = TimeSpan.FromDays(7);
    /// <summary>Browser origins that may connect to this space; null: those of the service's configuration.</summary>
    public IReadOnlyList<string>? Origins { get; init; }

    /// <summary>Sends of one API key a second; null: as the service's configuration says.</summary>
    public int? SendsPerSecond { get; init; }
    /// <summary>Sessions of one user at a time; null: as the service's configuration says.</summary>
    public int? SessionsPerUser { get; init; }

    /// <summary>The time zone in which rules show times.</summary>
    public TimeZoneInfo Zone { get; init; } = TimeZoneInfo.Utc;

    /// <summary>Types that are not in the catalogue are refused.</summary>
    public bool StrictTypes { get; init; }

    /// <summary>Events are kept as they came, not only by their names and outcomes.</summary>
    public bool KeepEventData { get; init; }

    /// <summary>How long repeats of an event are recognised at least.</summary>
    public TimeSpan RepeatsKeptFor { get; init; } = Idempotency.KeptFor;

    /// <summary>How it sends e-mails; null: it sends none.</summary>
    public MailSettings? Mail { get; init; }

    /// <summary>Reads the stored form, or what a patch made of it.</summary>
    /// <param name="root">The object.</param>
    /// <param name="errors">Receives the mistakes.</param>
    public static SpaceSettings Read(JsonObject root, List<FieldError> errors)
    {
        var read = Default;
        foreach (var (name, value) in root)
        {
            switch (name)
            {
                case "tokens" when value is JsonObject tokens: read = ReadTokens(read, tokens, errors); break;
                case "tokens": errors.Add(new FieldError(name, $"must be an object of {string.Join(", ", TokenMembers)}")); break;
                case "timeZone": read = read with { Zone = ZoneOf(value, name, errors) }; break;
                case "strictTypes": read = read with { StrictTypes = Flag(value, name, errors) }; break;
                case "keepEventData": read = read with { KeepEventData = Flag(value, name, errors) }; break;
                case "repeatsKeptFor": read = read with { RepeatsKeptFor = KeptFor(value, name, errors) }; break;
                case "mail" when value is JsonObject mail: read = read with { Mail = ReadMail(mail, errors) }; break;
                case "mail": errors.Add(new FieldError(name, $"must be an object of {string.Join(", ", MailMembers)}")); break;
                case "origins":
                    var origins = Texts(value, name, 100, errors, o => OriginMistake(o));
                    read = read with { Origins = origins };
                    break;
                case "limits" when value is JsonObject limits:
                    foreach (var (limit, number) in limits)
                    {
                        if (limit == "sendsPerSecond")
                        {
                            read = read with { SendsPerSecond = Number(number, "limits." + limit, 0, 1_000_000, errors) };
                        }
                        else if (limit == "sessionsPerUser")
                        {
                            read = read with { SessionsPerUser = Number(number, "limits." + limit, 0, 1_000_000, errors) };
                        }
                        else
                        {
                            errors.Add(new FieldError("limits." + limit,
                                "is not a limit of a space; there are sendsPerSecond and sessionsPerUser"));
                        }
                    }
                    break;
                default:
                    errors.Add(new FieldError(name,
                        "is not a setting of a space; there are tokens, limits and mail (objects), origins, timeZone, strictTypes, " +
                        "keepEventData and repeatsKeptFor"));
                    break;
            }
        }
        return read;
    }

    static SpaceSettings ReadTokens(SpaceSettings read, JsonObject tokens, List<FieldError> errors)
    {
        foreach (var (name, value) in tokens)
        {
            var field = "tokens." + name;
            read = name switch
            {
                "audiences" =>
                    read with
                    {
                        Audiences = Texts(value, field, 16, errors,
                    a => a.Length is > 0 and <= 512 ? null : "must be 1 to 512 characters")
                    },
                "algorithms" =>
                    read with
                    {
                        Algorithms = Texts(value, field, 4, errors,
                    a => KnownAlgorithms.Contains(a) ? null : $"must be one of {string.Join(", ", KnownAlgorithms)}")
                    },
                "userClaim" => read with { UserClaim = Claim(value, field, errors) },
                "rolesClaim" => read with { RolesClaim = Claim(value, field, errors) },
                "clockSkewSeconds" => read with { ClockSkew = TimeSpan.FromSeconds(Number(value, field, 0, 300, errors)) },
                "maxLifeSeconds" => read with { MaxTokenLife = TimeSpan.FromSeconds(Number(value, field, 60, 366 * 86_400, errors)) },
                _ => Unknown(read, field, errors),
            };
        }
        if (read.Algorithms.Count == 0)
        {
            errors.Add(new FieldError("tokens.algorithms",
                "is empty, and no token would be let in; name at least one, or give null for all"));
        }
        return read;
    }

    static MailSettings? ReadMail(JsonObject mail, List<FieldError> errors)
    {
        int before = errors.Count;
        foreach (var (name, _) in mail)
        {
            if (!MailMembers.Contains(name))
            {
                errors.Add(new FieldError("mail." + name, $"is not a setting; there are {string.Join(", ", MailMembers)}"));
            }
        }
        var host = Text(mail, "host", true, 253, h => Uri.CheckHostName(h) == UriHostNameType.Unknown ? "must be a host's name" : null,
            errors);
        var from = Text(mail, "from", true, 254, Mailbox.Fault, errors);
        var fromName = Text(mail, "fromName", false, 128, n => n.Any(char.IsControl) ? "contains a control character" : null, errors);
        var user = Text(mail, "user", false, 254, n => n.Any(char.IsControl) ? "contains a control character" : null, errors);
        var password = Text(mail, "password", false, 1024, _ => null, errors);
        var security = Text(mail, "security", false, 16,
            s => s is "starttls" or "tls" or "none" ? null : "must be starttls, tls or none", errors);
        var linkBase = Text(mail, "linkBase", false, 1024,
            l => Uri.TryCreate(l, UriKind.Absolute, out var u) && u.Scheme is "http" or "https" && u.UserInfo.Length == 0
                ? null : "must be an http(s) address, such as https://crew.marrowsound.example", errors);
        var domains = mail["domains"] is { } list ? Texts(list, "mail.domains", 100, errors,
            d => Mailbox.Fault("x@" + d) is null ? null : "must be a domain, such as marrowsound.example") : [];
        if (domains.Count == 0 && errors.Count == before)
        {
            errors.Add(new FieldError("mail.domains", "is missing; name the domains that e-mails may go to"));
        }
        int port = mail["port"] is { } p ? Number(p, "mail.port", 1, 65_535, errors) : 587;
        int perHour = mail["perHour"] is { } n ? Number(n, "mail.perHour", 1, 100_000, errors) : MailSettings.DefaultPerHour;
        return errors.Count > before ? null : new MailSettings
        {
            Host = host!,
            Port = port,
            Security = security switch { "tls" => MailSecurity.Tls, "none" => MailSecurity.None, _ => MailSecurity.StartTls },
            User = user,
            Password = password,
            From = from!,
            FromName = fromName,
            Domains = domains,
            PerHour = perHour,
            LinkBase = linkBase,
        };
    }

    static string? Text(JsonObject from, string name, bool required, int most, Func<string, string?> check, List<FieldError> errors)
    {
        var field = "mail." + name;
        if (from[name] is not { } node)
        {
            if (required) errors.Add(new FieldError(field, "is missing"));
            return null;
        }
        if (node is not JsonValue value || value.GetValueKind() != JsonValueKind.String
            || !JsonText.TryString(value.GetValue<JsonElement>(), out var text) || text.Length == 0 || text.Length > most)
        {
            errors.Add(new FieldError(field, $"must be a text of 1 to {most} characters"));
            return null;
        }
        if (check(text) is { } wrong) errors.Add(new FieldError(field, wrong));
        return text;
    }

    static TimeZoneInfo ZoneOf(JsonNode? value, string field, List<FieldError> errors)
    {
        if (value is JsonValue v && v.GetValueKind() == JsonValueKind.String && JsonText.TryString(v.GetValue<JsonElement>(), out var name)
            && TimeZones.TryFind(name, out var zone))
        {
            return zone;
        }
        errors.Add(new FieldError(field, TimeZones.Rule));
        return TimeZoneInfo.Utc;
    }

    static bool Flag(JsonNode? value, string field, List<FieldError> errors)
    {
        if (value?.GetValueKind() is not (JsonValueKind.True or JsonValueKind.False))
        {
            errors.Add(new FieldError(field, "must be true or false"));
        }
        return value?.GetValueKind() == JsonValueKind.True;
    }

    static TimeSpan KeptFor(JsonNode? value, string field, List<FieldError> errors)
    {
        if (value?.GetValueKind() == JsonValueKind.String && JsonText.TryString(value.GetValue<JsonElement>(), out var text)
            && Durations.Read(text) is { } time && time >= Idempotency.KeptFor && time <= MostRepeatsKept)
        {
            return time;
        }
        errors.Add(new FieldError(field, "must be a duration from 2d to 90d"));
        return Idempotency.KeptFor;
    }

    static SpaceSettings Unknown(SpaceSettings read, string field, List<FieldError> errors)
    {
        errors.Add(new FieldError(field, $"is not a setting; there are {string.Join(", ", TokenMembers)}"));
        return read;
    }

    static List<string> Texts(JsonNode? value, string field, int most, List<FieldError> errors, Func<string, string?> check)
    {
        var list = new List<string>();
        if (value is not JsonArray array || array.Count > most)
        {
            errors.Add(new FieldError(field, $"must be an array of at most {most} texts"));
            return list;
        }
        for (int i = 0; i < array.Count; i++)
        {
            if (array[i] is not JsonValue item || item.GetValueKind() != JsonValueKind.String
                || !JsonText.TryString(item.GetValue<JsonElement>(), out var text))
            {
                errors.Add(new FieldError($"{field}[{i}]", "must be a text"));
            }
            else if (check(text) is { } wrong) errors.Add(new FieldError($"{field}[{i}]", wrong));
            else if (!list.Contains(text)) list.Add(text);
        }
        return list;
    }

    static string Claim(JsonNode? value, string field, List<FieldError> errors)
    {
        if (value is JsonValue v && v.GetValueKind() == JsonValueKind.String && JsonText.TryString(v.GetValue<JsonElement>(), out var text)
            && text.Length is > 0 and <= 256)
        {
            return text;
        }
        errors.Add(new FieldError(field, "must be a claim's name, or a JSON Pointer such as /realm/roles"));
        return "sub";
    }

    static int Number(JsonNode? value, string field, int low, int high, List<FieldError> errors)
    {
        if (value is JsonValue v && v.GetValueKind() == JsonValueKind.Number && v.GetValue<JsonElement>().TryGetInt32(out int number)
            && number >= low && number <= high)
        {
            return number;
        }
        errors.Add(new FieldError(field, $"must be a whole number from {low} to {high}"));
        return low;
    }

    /// <summary>The mistake in an origin; null when it is valid.</summary>
    public static string? OriginMistake(string origin) =>
        origin == "*" ? "'*' would let every page read its visitors' notifications; list the origins that may"
        : Uri.TryCreate(origin, UriKind.Absolute, out var uri) && uri.Scheme is "http" or "https"
        && origin == uri.GetLeftPart(UriPartial.Authority) ? null
        : $"'{(origin.Length <= 60 ? origin : origin[..60] + "…")}' is not an origin; write scheme, host and port only, " +
        "without a path or '/' at the end: https://app.example";

    /// <summary>Applies a JSON merge patch to what is stored.</summary>
    public static void Merge(JsonObject into, JsonObject patch)
    {
        foreach (var (name, value) in patch)
        {
            if (value is null) into.Remove(name);
            else if (value is JsonObject inner)
            {
                if (into[name] is not JsonObject target) into[name] = target = [];
                Merge(target, inner);
            }
            else into[name] = value.DeepClone();
        }
    }
}
