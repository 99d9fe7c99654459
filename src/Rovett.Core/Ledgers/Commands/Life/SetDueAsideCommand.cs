using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Life;

/// <summary>Sets due work aside that cannot be carried out: it is kept with the reason, and not tried again.</summary>
public sealed class SetDueAsideCommand(string space, DueRow due, string why) : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        ledger.Store.RemoveDue(state.Id, due);
        ledger.SetAside(state,
            new SetAsideRow(state.Time, AsideKind.Due, due.Position, why,
            $"{{\"due\":\"{due.Kind}\",\"number\":{due.Number},\"at\":\"{due.At}\"}}"),
            $"the {due.Kind} due for the entry at position {due.Position}");
        Answer = true;
    }
}
