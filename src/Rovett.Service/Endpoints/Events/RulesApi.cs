using System.Globalization;
using System.Text;
using System.Text.Json;
using Rovett.Core.Catalogues;
using Rovett.Core.Events;
using Rovett.Core.Ledgers.Commands.Events;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Notifications;
using Rovett.Core.Rules;
using Rovett.Core.Yaml;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Events;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Outbound;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.Events;

/// <summary>Rules: which notifications are made of events, all of it as one version.</summary>
public sealed class RulesApi(LedgerPump ledger, RulesInForce rules, OutboundTargets outbound, AuditTrail audit)
{
    const int MaxShown = 20, MaxDifferences = 20;

    /// <summary>Shows the rules.</summary>
    /// <remarks>Those in effect, or with <c>?version=</c> those that were; with how often each was used since the
    /// service started.</remarks>
    public async Task<RulesAnswer> ShowRules(HttpContext context, Given<RulesQuery> query)
    {
        var space = context.KeyCaller().Space;
        var at = query.Sound().Version;
        var version = await ledger.Ask(new FindRulesCommand(space.Name, at));
        if (at is not null && version?.Position != at)
        {
            throw new Problem(404, "unknown-version", "No such version", $"No rules were loaded as version {at}.",
                "Read the version in effect: GET /v1/rules.").ToException();
        }
        var (current, inEffect) = await rules.Of(space);
        var set = version is null ? RuleSet.None : version.Position == current ? inEffect : RuleReader.Read(version.Document, []);
        return new RulesAnswer
        {
            Version = version?.Position ?? 0,
            Loaded = version?.Time,
            Document = version is null ? null : Encoding.UTF8.GetString(version.Document),
            Rules = [.. set.All.Select(r => Answer(r, rules.UseOf(space, r.Name)))],
            Unmatched = [.. rules.Unmatched(space).Select(u =>
                new UnmatchedAnswer { Type = u.Type, Count = u.Count, Nearest = set.Nearest(u.Type) })],
        };
    }

    static RuleAnswer Answer(Rule rule, RuleUse use)
    {
        var (matched, last, failure) = use.Read();
        return new RuleAnswer
        {
            Name = rule.Name,
            Events = [.. rule.Events.Select(e => e.Text)],
            To = [.. rule.Recipients],
            Matched = matched,
            LastMatched = last is { } time ? StoredTime.From(time) : null,
            LastFailed = failure is { } failed ? StoredTime.From(failed.Time) : null,
            LastReason = failure?.Reason,
        };
    }

    /// <summary>Loads rules.</summary>
    /// <remarks>YAML or JSON: all of them, as one version, or none. With <c>If-Match</c> only in place of that version; with
    /// <c>?dryRun=true</c> they are only checked. Open gatherings stay.</remarks>
    public async Task<RulesLoaded> PutRules(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        Json.AllowBody(context, RuleYaml.MaxBytes + 1);
        bool dryRun = Json.IsDryRun(context);
        var document = await Json.Bytes(context);
        var errors = new List<FieldError>();
        var inPlaceOf = Json.VersionToReplace(context, errors);
        var set = Read(document, errors, space.Types.Catalogue);
        errors.AddRange(outbound.Mistakes(space, set));
        if (errors.Count > 0)
        {
            throw Problem.Invalid(errors, "Correct the named rules; the version in effect has not changed.").ToException();
        }
        List<string> warnings = [.. Warnings(set, rules.Setting(space, set.Catalogue)), .. OutboundTargets.Warnings(space, set)];
        if (dryRun)
        {
            return new RulesLoaded { DryRun = true, Rules = set.All.Count, Tests = set.Tests.Count, Warnings = warnings };
        }
        var version = await ledger.Ask(new PutRulesCommand(space.Name, set, document, inPlaceOf));
        rules.Loaded(space, version.Position, set);
        if (set.Catalogue is { } catalogue) space.Load(version.Position, catalogue);
        audit.Note(space.Name, key.Actor, "rules.loaded", $"version {version.Position}", json => json.WriteNumber("rules", set.All.Count));
        context.Response.Headers.ETag = string.Create(CultureInfo.InvariantCulture, $"\"{version.Position}\"");
        return new RulesLoaded
        {
            Version = version.Position,
            Loaded = version.Time,
            Rules = set.All.Count,
            Tests = set.Tests.Count,
            Warnings = warnings,
        };
    }

    static RuleSet Read(byte[] document, List<FieldError> errors, Catalogue known)
    {
        var mistakes = new List<RuleMistake>();
        var set = RuleReader.Read(document, mistakes, known);
        errors.AddRange(mistakes.Select(m => m.ToFieldError()));
        return set;
    }

    static List<string> Warnings(RuleSet set, RuleSetting setting)
    {
        var warnings = new List<string>();
        foreach (var test in set.Tests)
        {
            warnings.AddRange(test.Run(set, setting).Take(MaxDifferences - warnings.Count)
                .Select(d => $"the test in line {test.Line} fails: {d}"));
        }
        warnings.AddRange(RuleReader.Untested(set).Select(name => $"no test covers the rule '{name}'"));
        return warnings;
    }

    /// <summary>Tries an event.</summary>
    /// <remarks>Which rules match, which condition fails in the others, and what would be sent to whom. Nothing is
    /// stored or sent.</remarks>
    public async Task<TryAnswer> TryRules(HttpContext context, Given<TryRequest> body)
    {
        var space = context.KeyCaller().Space;
        if (!body.Has("event")) body.Wrong("event", "is missing; give an event in the JSON format of CloudEvents");
        var given = body.Sound();
        IncomingEvent found;
        try
        {
            found = EventReader.Structured(given.Event!.Value.Clone(), null);
        }
        catch (ProblemException refused) when (refused.Problem.Errors.Count > 0)
        {
            throw Problem.Invalid([.. refused.Problem.Errors.Select(e => new FieldError($"event.{e.Field}", e.Detail))]).ToException();
        }
        var (version, set) = await rules.Of(space);
        if (given.Document is { } document)
        {
            var errors = new List<FieldError>();
            set = Read(Encoding.UTF8.GetBytes(document), errors, space.Types.Catalogue);
            if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
        }
        var tried = new List<TriedRule>();
        foreach (var rule in set.For(found.Type)) tried.Add(await Try(space, rule, found));
        return new TryAnswer
        {
            Version = given.Document is null ? version : null,
            Rules = tried,
            Nearest = tried.Count == 0 ? set.Nearest(found.Type) : null,
        };
    }

    async Task<TriedRule> Try(SpaceRuntime space, Rule rule, IncomingEvent found)
    {
        if (rule.WhyNot(found) is { } because)
        {
            return new TriedRule { Rule = rule.Name, Matches = false, Because = because, Notifications = [], Count = 0 };
        }
        var result = rule.Make(found, rules.Setting(space));
        var notifications = new List<TriedNotification>();
        string? fails = result.Failure;
        foreach (var draft in result.Drafts.Take(MaxShown))
        {
            try
            {
                var reach = (await ledger.Ask(new SendCommand(space.Name, draft.Draft, null, dryRun: true))).Reach;
                notifications.Add(new TriedNotification
                {
                    Notification = JsonElement.Parse(draft.Body),
                    Reach = [.. reach.Select(Answer)],
                    Bytes = draft.Draft.Body.Length + 2,
                });
            }
            catch (ProblemException refused) when (refused.Problem.Status == 422)
            {
                fails ??= refused.Problem.Detail;
            }
        }
        return new TriedRule
        {
            Rule = rule.Name,
            Matches = true,
            Fails = fails,
            GathersForSeconds = rule.GathersFor is { } span ? (long)span.TotalSeconds : null,
            Notifications = notifications,
            Count = result.Drafts.Count,
        };
    }

    static TriedReach Answer(Reach reach) => new() { Address = reach.Address, Users = reach.Users, Connected = reach.Connected };

    /// <summary>Shows the JSON Schema of rules.</summary>
    /// <remarks>For editors: it completes and checks rules while they are written.</remarks>
    public async Task ShowRuleSchema(HttpContext context)
    {
        using var schema = typeof(RulesApi).Assembly.GetManifestResourceStream("rules.schema.json")!;
        context.Response.ContentType = "application/json"; // of application/schema+json editors know less
        context.Response.ContentLength = schema.Length;
        await schema.CopyToAsync(context.Response.Body, context.RequestAborted);
    }
}
