using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Core.Addresses;
using Rovett.Core.Events;
using Rovett.Core.Ledgers.Commands.Life;
using Rovett.Core.Notifications;
using Rovett.Core.Rules;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Events;

/// <summary>Retries something that was set aside. For an event, only the rules that failed are carried out, in the version in force.
/// Answers null for an unknown number.</summary>
/// <param name="space">The space's name.</param>
/// <param name="number">Its number.</param>
/// <param name="setting">What rules take into account.</param>
/// <param name="data">For an event: other data for it; null: its own.</param>
public sealed class RetryCommand(string space, long number, RuleSetting setting, JsonElement? data = null)
    : LedgerCommand<RetryResult?>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (ledger.Store.FindSetAside(state.Id, number) is not { } row) return;
        if (data is not null && row.Kind != AsideKind.Event)
        {
            throw Problem.Invalid([new FieldError("data", "can be given only for an event")]).ToException();
        }
        Answer = row.Kind switch
        {
            AsideKind.Event => Event(ledger, state, row),
            AsideKind.Due => Due(ledger, state, row),
            AsideKind.Otherwise when IsOutbound(row, out var outbound) => Outbound(ledger, state, row, outbound),
            _ => Notification(ledger, state, row),
        };
    }

    RetryResult Event(Ledger ledger, SpaceState state, SetAsideRow row)
    {
        var detail = JsonElement.Parse(row.Detail);
        if (!detail.TryGetProperty("event", out var stored)) return Gone(ledger, state);
        var kept = IncomingEvent.Parse(System.Text.Encoding.UTF8.GetBytes(stored.GetRawText()));
        var found = data is { } other ? kept.With(other) : kept;
        var results = state.Events.Current.Set.Apply(found, setting);
        var making = new EventOperation(ledger, state, found);
        var failed = detail.GetProperty("rules").EnumerateArray()
            .ToDictionary(r => r.GetProperty("rule").GetString()!,
            r => r.GetProperty("done").EnumerateArray().Select(d => d.GetString()!).ToList());
        Remove(ledger, state);
        foreach (var result in results)
        {
            if (failed.TryGetValue(result.Rule.Name, out var done)) making.Make(result, done);
        }
        var outcome = making.Outcome([]);
        Remember(ledger, state, found, outcome);
        return RetryResult.Of(number, outcome);
    }

    static void Remember(Ledger ledger, SpaceState state, IncomingEvent found, EventOutcome made)
    {
        if (ledger.Store.FindEvent(state.Id, found.Source, found.Id) is not { } row) return;
        var before = EventOutcome.Parse(row.Outcome);
        ledger.Store.SaveEvent(state.Id, row with
        {
            Outcome = (before with
            {
                Notifications = [.. before.Notifications, .. made.Notifications],
                Gatherings = [.. before.Gatherings, .. made.Gatherings],
                Failed = made.Failed,
                SetAside = made.SetAside,
                IsLate = true,
            }).ToBytes(),
        });
    }

    RetryResult Due(Ledger ledger, SpaceState state, SetAsideRow row)
    {
        var detail = JsonElement.Parse(row.Detail);
        if (!detail.TryGetProperty("due", out var kind) || !Enum.TryParse<DueKind>(kind.GetString(), out var due))
        {
            return Gone(ledger, state);
        }
        state.AddDue(new DueRow(state.Due, due, row.Position, detail.GetProperty("number").GetInt32()));
        Remove(ledger, state);
        return new RetryResult(number, null, []);
    }

    RetryResult Notification(Ledger ledger, SpaceState state, SetAsideRow row)
    {
        if (DraftOf(row, out var drawn) is not { } draft) return Gone(ledger, state);
        try
        {
            var reach = Recipients.Of(ledger, state, draft);
            Recipients.Check(ledger, draft, reach);
            var id = new SendOperation(ledger, state, draft) { Id = drawn }.Store(reach).Id;
            Remove(ledger, state);
            return new RetryResult(number, null, [id]);
        }
        catch (ProblemException refused)
        {
            return new RetryResult(number, refused.Problem.Detail, []);
        }
    }

    static bool IsOutbound(SetAsideRow row, out JsonElement detail)
    {
        detail = JsonElement.Parse(row.Detail);
        return detail.TryGetProperty("outbound", out _);
    }

    /// <summary>A webhook call or an e-mail waits to be made once more.</summary>
    RetryResult Outbound(Ledger ledger, SpaceState state, SetAsideRow row, JsonElement detail)
    {
        var outbound = new OutboundRow(0, state.Due, row.Position, detail.GetProperty("deadline").GetInt32(),
            detail.GetProperty("item").GetInt32(), state.Due, 0, null, detail.GetProperty("outbound").GetRawText());
        ledger.Store.AddOutbound(state.Id, outbound);
        SettleOutboundCommand.Note(ledger, state, outbound, OtherwiseState.Waiting);
        ledger.Observe(o => o.Outbound(Space));
        Remove(ledger, state);
        return new RetryResult(number, null, []);
    }

    /// <summary>The notification that could not be sent; null: it was erased with a person.</summary>
    /// <param name="row">What is set aside.</param>
    /// <param name="drawn">The id that its events were answered; default: none was drawn.</param>
    Draft? DraftOf(SetAsideRow row, out NotificationId drawn)
    {
        var detail = JsonNode.Parse(row.Detail)!;
        drawn = (string?)detail["id"] is { } text && NotificationId.TryParse(text, out var id) ? id : default;
        if (detail["notification"] is not JsonObject notification) return null;
        if (detail["addressing"] is JsonArray lines)
        {
            var addressing = new Addressing(string.Join('\n', lines.Select(l => (string)l!)));
            notification["to"] = new JsonArray([.. addressing.To.Select(a => (JsonNode)a)]);
            if (addressing.Except.Any()) notification["except"] = new JsonArray([.. addressing.Except.Select(a => (JsonNode)a)]);
        }
        using var document = JsonDocument.Parse(notification.ToJsonString());
        return NotificationReader.Read(document.RootElement, setting.TermsOf, out _);
    }

    /// <summary>Its content was erased with a person: nothing is left to try.</summary>
    RetryResult Gone(Ledger ledger, SpaceState state)
    {
        Remove(ledger, state);
        return new RetryResult(number, null, []);
    }

    void Remove(Ledger ledger, SpaceState state)
    {
        ledger.Store.RemoveSetAside(state.Id, number);
        state.Events.RemovedAside();
    }
}

/// <summary>Drops something that was set aside. Answers false for an unknown number.</summary>
public sealed class DropSetAsideCommand(string space, long number) : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = ledger.Store.FindSetAside(state.Id, number) is not null;
        if (!Answer) return;
        ledger.Store.RemoveSetAside(state.Id, number);
        state.Events.RemovedAside();
    }
}
