using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>A space's settings.</summary>
public sealed class SettingsApi(SigningKeys signing, AccessStore store, AuditTrail audit, TimeProvider clock)
{
    /// <summary>Shows the settings of the space.</summary>
    public Task<SettingsAnswer> ShowSettings(HttpContext context) => Task.FromResult(Answer(context.KeyCaller().Space.Settings));

    /// <summary>Changes settings of the space.</summary>
    /// <remarks>A JSON merge patch (RFC 7396): what is left out stays, null goes back to the default.</remarks>
    public Task<SettingsAnswer> UpdateSettings(HttpContext context, RawBody body)
    {
        var (space, admin) = context.KeyCaller();
        if (body.Root.ValueKind != JsonValueKind.Object || JsonText.HasBadText(body.Root))
        {
            throw Problem.Invalid(
                [new FieldError("(body)", "must be a JSON object with the settings to change; null takes one back to its default")])
                .ToException();
        }
        SpaceSettings settings;
        lock (space)
        {
            var merged = store.Settings(space.Name) is { } text ? (JsonObject)JsonNode.Parse(text)! : [];
            SpaceSettings.Merge(merged, (JsonObject)JsonNode.Parse(body.Root.GetRawText())!);
            var errors = new List<FieldError>();
            settings = SpaceSettings.Read(merged, errors);
            if (settings.Audiences.Count == 0 && signing.Of(space.Name).Any(k => k.Source is not null))
            {
                errors.Add(new FieldError("tokens.audiences",
                    "is empty, and a key set signs tokens for others too; name this space's audience, or remove the key set first"));
            }
            if (errors.Count > 0) throw Problem.Invalid(errors, "Correct the named settings; nothing was changed.").ToException();
            store.SaveSettings(space.Name, merged.ToJsonString(), StoredTime.From(clock.GetUtcNow()).Micros);
            space.Settings = settings;
            signing.ForgetVerified(space.Name);
        }
        audit.Note(space.Name, admin.Actor, "settings.changed", space.Name, json =>
        {
            json.WritePropertyName("patch");
            WithoutPassword(body.Root).WriteTo(json);
        });
        return Task.FromResult(Answer(settings));
    }

    static JsonNode WithoutPassword(JsonElement patch)
    {
        var told = JsonNode.Parse(patch.GetRawText())!;
        if (told["mail"] is JsonObject mail && mail["password"] is not null) mail["password"] = "(not shown)";
        return told;
    }

    static SettingsAnswer Answer(SpaceSettings settings) => new()
    {
        Mail = settings.Mail is { } mail ? new MailSettingsAnswer
        {
            Host = mail.Host,
            Port = mail.Port,
            Security = mail.Security.ToString().ToLowerInvariant(),
            User = mail.User,
            HasPassword = mail.Password is not null,
            From = mail.From,
            FromName = mail.FromName,
            Domains = mail.Domains,
            PerHour = mail.PerHour,
            LinkBase = mail.LinkBase,
        } : null,
        Tokens = new TokenSettings
        {
            Audiences = settings.Audiences,
            Algorithms = settings.Algorithms,
            UserClaim = settings.UserClaim,
            RolesClaim = settings.RolesClaim,
            ClockSkewSeconds = (int)settings.ClockSkew.TotalSeconds,
            MaxLifeSeconds = (int)settings.MaxTokenLife.TotalSeconds,
        },
        Limits = new LimitSettings { SendsPerSecond = settings.SendsPerSecond, SessionsPerUser = settings.SessionsPerUser },
        Origins = settings.Origins,
        TimeZone = settings.Zone.Id,
        StrictTypes = settings.StrictTypes,
        KeepEventData = settings.KeepEventData,
        RepeatsKeptFor = Durations.Write(settings.RepeatsKeptFor),
    };
}
