using Rovett.Core.Ledgers.Commands.Events;
using Rovett.Core.Rules;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Intakes;

/// <summary>Takes the event of something that a source handed over and that was set aside. Answers null when nothing of the kind is set
/// aside by this number.</summary>
/// <param name="space">The space's name.</param>
/// <param name="number">Its number.</param>
/// <param name="evaluated">The event.</param>
/// <param name="setting">What rules take into account.</param>
/// <param name="keepsData">Keep the event as it came, not only its names.</param>
public sealed class RetryHandedOverCommand(string space, long number, EvaluatedEvent evaluated, RuleSetting setting, bool keepsData)
    : LedgerCommand<RetryResult?>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (ledger.Store.FindSetAside(state.Id, number) is not { Kind: AsideKind.Intake }) return;
        var outcome = EventTaking.Take(ledger, state, evaluated, setting, keepsData);
        ledger.Store.RemoveSetAside(state.Id, number);
        state.Events.RemovedAside();
        Answer = RetryResult.Of(number, outcome);
    }
}
