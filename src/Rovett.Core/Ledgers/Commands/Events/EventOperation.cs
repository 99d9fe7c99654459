using System.Text;
using System.Text.Json;
using Rovett.Core.Events;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Rules;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Events;

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
