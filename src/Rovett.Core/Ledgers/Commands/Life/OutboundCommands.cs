using System.Text.Json;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Life;

/// <summary>Webhook calls and e-mails that are to be made now.</summary>
/// <param name="Rows">They.</param>
/// <param name="Next">How long until the next one that is not due yet; null: there is none.</param>
/// <param name="MailsInHour">How many e-mails were sent within the last hour.</param>
public sealed record OutboundWork(IReadOnlyList<OutboundRow> Rows, TimeSpan? Next, long MailsInHour);

/// <summary>Finds webhook calls and e-mails that are due. Those whose state was reached meanwhile are not needed any
/// more and end.</summary>
/// <param name="space">The space's name.</param>
/// <param name="limit">At most so many.</param>
public sealed class OutboundWorkCommand(string space, int limit) : LedgerCommand<OutboundWork>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var rows = new List<OutboundRow>();
        foreach (var row in ledger.Store.OutboundDue(state.Id, state.Due, limit))
        {
            if (Deadlines.IsReached(ledger, state, row.Position, row.Deadline))
            {
                SettleOutboundCommand.End(ledger, state, row, OtherwiseState.Ended);
            }
            else rows.Add(row);
        }
        TimeSpan? next = ledger.Store.NextOutbound(state.Id) is { } at
            ? TimeSpan.FromMicroseconds(Math.Max(0, at.Micros - state.Due.Micros)) : null;
        long mails = rows.Count == 0 ? 0
            : ledger.Store.MailsSince(state.Id, new StoredTime(state.Time.Micros - (long)TimeSpan.FromHours(1).TotalMicroseconds));
        Answer = new OutboundWork(rows, next, mails);
    }
}

/// <summary>What became of an attempt.</summary>
/// <param name="Failure">Why it failed; null: it did not.</param>
/// <param name="Again">After which pause it is tried again; null: it is not.</param>
/// <param name="IsAttempt">False: it was not tried, and only waits.</param>
public sealed record OutboundResult(string? Failure, TimeSpan? Again, bool IsAttempt = true);

/// <summary>Notes what became of an attempt: done, to be tried again, or set aside. Answers false if it was removed meanwhile.</summary>
/// <param name="space">The space's name.</param>
/// <param name="number">The number of the call or e-mail.</param>
/// <param name="result">What became of it.</param>
public sealed class SettleOutboundCommand(string space, long number, OutboundResult result) : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (ledger.Store.FindOutbound(state.Id, number) is not { } row) return;
        Answer = true;
        if (result.Failure is not { } failure)
        {
            End(ledger, state, row, OtherwiseState.Done);
            return;
        }
        if (result.Again is { } pause)
        {
            ledger.Store.SaveOutbound(state.Id, row with
            {
                At = new StoredTime(state.Due.Micros + (long)pause.TotalMicroseconds),
                Attempts = row.Attempts + (result.IsAttempt ? 1 : 0),
                Error = failure,
            });
            return;
        }
        // Where it is from stands beside it, so that a retry can go on.
        var detail = $"{{\"deadline\":{row.Deadline},\"item\":{row.Item},\"outbound\":{row.Detail}}}";
        ledger.SetAside(state, new SetAsideRow(state.Time, AsideKind.Otherwise, row.Position, failure, detail), Named(row));
        End(ledger, state, row, OtherwiseState.SetAside);
    }

    /// <summary>Removes one, and notes what became of it.</summary>
    internal static void End(Ledger ledger, SpaceState state, OutboundRow row, OtherwiseState becomes)
    {
        ledger.Store.RemoveOutbound(state.Id, row.Number);
        Note(ledger, state, row, becomes);
    }

    /// <summary>Notes what became of one beside the deadline, while that is kept.</summary>
    internal static void Note(Ledger ledger, SpaceState state, OutboundRow row, OtherwiseState becomes)
    {
        var deadline = ledger.Store.Deadlines(state.Id, row.Position).FirstOrDefault(d => d.Number == row.Deadline);
        if (deadline?.Otherwise.FirstOrDefault(o => o.Item == row.Item) is { } item)
        {
            OtherwiseOperation.Save(ledger, state, row.Position, row.Deadline, item with { State = becomes });
        }
    }

    static string Named(OutboundRow row)
    {
        var detail = JsonElement.Parse(row.Detail);
        return detail.TryGetProperty("webhook", out var webhook) ? $"the call of the webhook '{webhook.GetString()}' for a missed deadline"
            : "an e-mail for a missed deadline";
    }
}
