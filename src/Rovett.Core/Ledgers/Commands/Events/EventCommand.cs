using System.Text;
using System.Text.Json;
using Rovett.Core.Events;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Rules;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Events;

/// <summary>An event with what rules make of it, worked out before the ledger's turn.</summary>
/// <param name="Event">The event.</param>
/// <param name="Version">The version of the rules.</param>
/// <param name="Results">A result for each rule that matches.</param>
public sealed record EvaluatedEvent(IncomingEvent Event, long Version, IReadOnlyList<RuleResult> Results);

/// <summary>The answer to an event: what came of it, or why it was refused.</summary>
/// <param name="Outcome">What came of it; null: it was refused.</param>
/// <param name="Refusal">Why it was refused; null: it was taken.</param>
public sealed record EventAnswer(EventOutcome? Outcome, Problem? Refusal);

/// <summary>Takes events in order, in one commit: stores their notifications, gatherings, and what is set aside of them. A refused
/// event changes nothing, and does not affect the others.</summary>
/// <param name="space">The space's name.</param>
/// <param name="events">The events, with their results under a version of the rules; worked out again if another is in force.</param>
/// <param name="setting">What rules take into account.</param>
public sealed class EventsCommand(string space, IReadOnlyList<EvaluatedEvent> events, RuleSetting setting)
    : LedgerCommand<IReadOnlyList<EventAnswer>>
{
    internal override bool ShowsStoreWorks => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(space);
        var answers = new List<EventAnswer>(events.Count);
        foreach (var one in events)
        {
            try
            {
                answers.Add(new EventAnswer(Take(ledger, state, one), null));
            }
            catch (ProblemException refused)
            {
                answers.Add(new EventAnswer(null, refused.Problem));
            }
        }
        Answer = answers;
    }

    EventOutcome Take(Ledger ledger, SpaceState state, EvaluatedEvent evaluated)
    {
        var found = evaluated.Event;
        if (ledger.Store.FindEvent(state.Id, found.Source, found.Id) is { } earlier)
        {
            if (!earlier.Hash.AsSpan().SequenceEqual(found.Hash)) throw Differs(found).ToException();
            return EventOutcome.Parse(earlier.Outcome) with { IsRepeated = true };
        }
        var (version, rules) = state.Events.Current;
        var results = evaluated.Version == version ? evaluated.Results : rules.Apply(found, setting);
        if (results.Count == 0) return new EventOutcome { Nearest = rules.Nearest(found.Type) };
        RequireRoom(ledger, state, results);
        var making = new EventOperation(ledger, state, found);
        foreach (var result in results) making.Make(result, []);
        var outcome = making.Outcome([.. results.Select(r => r.Rule.Name)]);
        ledger.Store.SaveEvent(state.Id,
            new EventRow(found.Source, found.Id, found.Hash, ledger.Now, found.Type, found.Subject, found.Trace,
            outcome.ToBytes()));
        return outcome;
    }

    static void RequireRoom(Ledger ledger, SpaceState state, IReadOnlyList<RuleResult> results)
    {
        if (state.Events.IsAsideFull && results.Any(r => Fails(ledger, state, r)))
        {
            throw new Problem(503, "set-aside-full", "Too much is set aside",
                "A rule fails for this event, and nothing more can be set aside.",
                "Retry or drop what is set aside: GET /v1/set-aside.")
            { RetryAfterSeconds = 30 }.ToException();
        }
        if (results.Any(r => r.Rule.GathersFor is not null) && state.Events.Gatherings >= EventRules.MaxGatherings)
        {
            throw new Problem(503, "too-many-gatherings", "Too many gatherings",
                $"{EventRules.MaxGatherings} gatherings are open.", "Send it again later.")
            { RetryAfterSeconds = 30 }.ToException();
        }
    }

    /// <summary>Whether a rule fails, as far as can be told before anything is stored.</summary>
    static bool Fails(Ledger ledger, SpaceState state, RuleResult result)
    {
        try
        {
            foreach (var draft in result.Drafts.Where(d => d.IsStored && result.Rule.GathersFor is null))
            {
                Recipients.Check(ledger, draft.Draft, Recipients.Of(ledger, state, draft.Draft));
            }
            return result.Failure is not null;
        }
        catch (ProblemException)
        {
            return true;
        }
    }

    static Problem Differs(IncomingEvent found) =>
        new(422, "event-differs", "Event differs from an earlier one",
        $"An event with the source '{found.Source}' and the id '{found.Id}' was taken before, with other content.",
        "Give each event an id of its own; repeat an event with exactly the same content.");
}

/// <summary>Carries out what rules make of one event.</summary>
sealed class EventOperation(Ledger ledger, SpaceState state, IncomingEvent found)
{
    readonly List<MadeNotification> notifications = [];
    readonly List<MadeGathering> gatherings = [];
    readonly List<(FailedRule Failed, IReadOnlyList<string> Done)> failed = [];

    /// <summary>Carries out a rule.</summary>
    /// <param name="result">Its result.</param>
    /// <param name="done">Addressings that it was carried out for before.</param>
    public void Make(RuleResult result, IReadOnlyCollection<string> done)
    {
        var name = result.Rule.Name;
        if (result.Failure is { } failure)
        {
            failed.Add((new FailedRule(name, failure), [.. done]));
            return;
        }
        var made = new List<string>(done);
        foreach (var draft in result.Drafts)
        {
            var key = draft.Draft.Addressing.Lines;
            if (done.Contains(key)) continue;
            try
            {
                Make(result.Rule, draft);
                made.Add(key);
            }
            catch (Exception refused) when (refused is ProblemException or RuleFailure)
            {
                // Refused before it changed anything; the items before it stay.
                failed.Add((new FailedRule(name, refused is ProblemException p ? p.Problem.Detail : refused.Message), made));
                return;
            }
        }
    }

    void Make(Rule rule, RuleDraft draft)
    {
        if (!draft.IsStored)
        {
            EphemeralCommand.Pass(ledger, state, draft.Draft);
            return;
        }
        if (rule.GathersFor is not null)
        {
            var (gathering, sent) = Gatherings.Add(ledger, state, rule, draft, found);
            gatherings.Add(gathering);
            if (sent is { } id) Made(id, rule);
            return;
        }
        var reach = Recipients.Of(ledger, state, draft.Draft);
        Recipients.Check(ledger, draft.Draft, reach);
        Made(new SendOperation(ledger, state, draft.Draft).Store(reach).Id, rule);
    }

    void Made(NotificationId id, Rule rule)
    {
        notifications.Add(new MadeNotification(id, rule.Name));
        ledger.Store.AddOrigin(state.Id, id, found.Source, found.Id, rule.Name);
    }

    /// <summary>What came of it; sets it aside if a rule failed.</summary>
    public EventOutcome Outcome(IReadOnlyList<string> matched) => new()
    {
        Matched = matched,
        Notifications = notifications,
        Gatherings = gatherings,
        Failed = [.. failed.Select(f => f.Failed)],
        SetAside = failed.Count > 0 ? SetAside() : null,
    };

    long SetAside()
    {
        var buffer = new System.Buffers.ArrayBufferWriter<byte>(found.Bytes.Length + 256);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions))
        {
            json.WriteStartObject();
            json.WritePropertyName("event");
            json.WriteRawValue(found.Bytes);
            json.WriteStartArray("rules");
            foreach (var (rule, done) in failed)
            {
                json.WriteStartObject();
                json.WriteString("rule", rule.Rule);
                json.WriteString("reason", rule.Reason);
                json.WriteStartArray("done");
                foreach (var key in done) json.WriteStringValue(key);
                json.WriteEndArray();
                json.WriteEndObject();
            }
            json.WriteEndArray();
            json.WriteEndObject();
        }
        var detail = Encoding.UTF8.GetString(buffer.WrittenSpan);
        var why = string.Join("; ", failed.Select(f => $"{f.Failed.Rule}: {f.Failed.Reason}"));
        return ledger.SetAside(state, new SetAsideRow(state.Time, AsideKind.Event, 0, why, detail),
            $"the event '{found.Id}' of {found.Source} ({found.Type})");
    }
}
