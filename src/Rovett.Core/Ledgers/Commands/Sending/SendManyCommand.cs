using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Sending;

/// <summary>The answer to one of many sends: its result, or why it was refused.</summary>
/// <param name="Result">The result; null: it was refused.</param>
/// <param name="Refusal">Why it was refused; null: it is stored.</param>
public sealed record SendOutcome(SendResult? Result, Problem? Refusal);

/// <summary>Stores several notifications, in order, in one commit. A refused one changes nothing, and does not affect the others.</summary>
/// <param name="space">The space's name.</param>
/// <param name="drafts">The notifications.</param>
/// <param name="mayReplace">Whether the sender may replace a notification in its slot; null: any.</param>
/// <param name="after">What must not be overtaken: if it can't be stored, neither is this.</param>
public sealed class SendManyCommand(string space, IReadOnlyList<Draft> drafts, Func<Store.EntryRow, bool>? mayReplace = null,
    SendManyCommand? after = null) : LedgerCommand<IReadOnlyList<SendOutcome>>(space)
{
    readonly SendManyCommand? after = after;

    /// <inheritdoc/>
    public override int Work => drafts.Count;

    internal override bool OnlySends => true;

    internal override bool ShowsStoreWorks => true;

    internal override void Needs(AheadList ahead)
    {
        foreach (var draft in drafts) Recipients.Needs(draft, ahead);
    }

    internal override void Execute(Ledger ledger)
    {
        for (var before = after; before is not null; before = before.after)
        {
            if (before.Task.IsFaulted) throw Overtaking().ToException();
        }
        var outcomes = new List<SendOutcome>(drafts.Count);
        foreach (var draft in drafts)
        {
            var one = new SendCommand(Space, draft, null, dryRun: false, mayReplace: mayReplace);
            try
            {
                outcomes.Add(new SendOutcome(one.Send(ledger), null));
            }
            catch (ProblemException refused)
            {
                outcomes.Add(new SendOutcome(null, refused.Problem));
            }
        }
        Answer = outcomes;
    }

    static Problem Overtaking() => new(503, "store-unavailable", "Store unavailable",
        "What comes before it in the same request could not be stored, so this was not, either.", "Send it again, in the same order.")
    { RetryAfterSeconds = 1 };
}
