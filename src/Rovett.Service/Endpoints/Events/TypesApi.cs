using System.Globalization;
using Rovett.Core.Catalogues;
using Rovett.Core.Ledgers.Commands.Events;
using Rovett.Core.Rules;
using Rovett.Core.Yaml;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Options;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.Events;

/// <summary>The catalogue of types.</summary>
public sealed class TypesApi(LedgerPump ledger, RovettOptions options, AuditTrail audit)
{
    /// <summary>Shows the catalogue of types.</summary>
    public Task<TypesAnswer> ShowTypes(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var (version, catalogue) = space.Types;
        context.Response.Headers.ETag = Tag(version);
        return Task.FromResult(new TypesAnswer
        {
            Version = version,
            Strict = space.Settings.StrictTypes,
            Types = [.. catalogue.Types.Select(Answer)],
            Events = [.. catalogue.Events.Select(e => new EventTypeAnswer { Type = e.Type, Data = e.Data?.ToJson() })],
        });
    }

    TypeAnswer Answer(NotificationType type) => new()
    {
        Type = type.Type,
        Names = type.Names.ToDictionary(n => n.Language, n => n.Name),
        Urgency = type.Urgency,
        Always = type.IsAlways ? true : null,
        Receipts = (type.Receipts ?? options.ReceiptsOf(type.Type)).ToString().ToLowerInvariant(),
        Carry = type.Carry.ToString().ToLowerInvariant(),
        Data = type.Data?.ToJson(),
    };

    /// <summary>Loads a catalogue of types.</summary>
    /// <remarks>YAML or JSON: all of it, as one version, or none; from a rules file its parts <c>types</c> and <c>events</c>. With
    /// <c>If-Match</c> only in place of that version; with <c>?dryRun=true</c> it is only checked.</remarks>
    public async Task<TypesLoaded> PutTypes(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        Json.AllowBody(context, RuleYaml.MaxBytes + 1);
        bool dryRun = Json.IsDryRun(context);
        var document = await Json.Bytes(context);
        var errors = new List<FieldError>();
        var inPlaceOf = Json.VersionToReplace(context, errors);
        var mistakes = new List<RuleMistake>();
        var catalogue = CatalogueReader.Read(document, mistakes);
        errors.AddRange(mistakes.Select(m => m.ToFieldError()));
        if (errors.Count > 0)
        {
            throw Problem.Invalid(errors, "Correct the named types; the version in effect has not changed.").ToException();
        }
        var warnings = await Warnings(space, catalogue);
        long? version = null;
        if (!dryRun)
        {
            version = (await ledger.Ask(new PutTypesCommand(space.Name, catalogue, document, inPlaceOf))).Position;
            space.Load(version.Value, catalogue);
            audit.Note(space.Name, key.Actor, "types.loaded", $"version {version}",
                json => json.WriteNumber("types", catalogue.Types.Count + catalogue.Events.Count));
            context.Response.Headers.ETag = Tag(version.Value);
        }
        return new TypesLoaded
        {
            DryRun = dryRun ? true : null,
            Version = version,
            Types = catalogue.Types.Count,
            Events = catalogue.Events.Count,
            Warnings = warnings,
        };
    }

    /// <summary>Rules that use what the events' schemas do not have.</summary>
    async Task<List<string>> Warnings(SpaceRuntime space, Catalogue catalogue)
    {
        if (await ledger.Ask(new FindRulesCommand(space.Name)) is not { } rules) return [];
        var mistakes = new List<RuleMistake>();
        RuleReader.Read(rules.Document, mistakes, catalogue, prefersKnown: true);
        return [.. mistakes.Select(m => $"the rules in effect, line {m.Line}: {m.Field} {m.Detail}")];
    }

    static string Tag(long version) => string.Create(CultureInfo.InvariantCulture, $"\"{version}\"");
}
