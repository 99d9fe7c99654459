using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Intakes;

/// <summary>What is stored of an intake.</summary>
/// <param name="IsPaused">Whether somebody paused it.</param>
/// <param name="Positions">How far it has read its source, part by part.</param>
public sealed record IntakeStored(bool IsPaused, IReadOnlyList<IntakePosition> Positions);

/// <summary>Reads what is stored of an intake.</summary>
/// <param name="space">The space's name.</param>
/// <param name="intake">The intake's name.</param>
public sealed class FindIntakeCommand(string space, string intake) : LedgerCommand<IntakeStored>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = new IntakeStored(ledger.Store.IsIntakePaused(state.Id, intake), ledger.Store.IntakePositions(state.Id, intake));
    }
}

/// <summary>Pauses an intake or resumes it. The choice survives restarts.</summary>
/// <param name="space">The space's name.</param>
/// <param name="intake">The intake's name.</param>
/// <param name="isPaused">Whether it is to be paused.</param>
public sealed class PauseIntakeCommand(string space, string intake, bool isPaused) : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        ledger.Store.SaveIntakePaused(ledger.Space(Space).Id, intake, isPaused);
        Answer = isPaused;
    }
}

/// <summary>Stores how far an intake has read a part of its source, where nothing is taken from it.</summary>
/// <param name="space">The space's name.</param>
/// <param name="intake">The intake's name.</param>
/// <param name="part">The part.</param>
/// <param name="place">The place within it.</param>
public sealed class KeepPlaceCommand(string space, string intake, string part, string place) : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        ledger.Store.SaveIntakePosition(ledger.Space(Space).Id, intake, new IntakePosition(part, place));
        Answer = true;
    }
}
