using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Life;

/// <summary>Stores the state of the clock, so that a start after a long absence, or after the clock was set, can be
/// recognised.</summary>
/// <param name="isProbe">It is to show that the store takes writes.</param>
public sealed class SaveClockCommand(bool isProbe = false) : LedgerCommand<bool>(null)
{
    internal override bool ShowsStoreWorks => isProbe;

    internal override bool MaySyncLater => !isProbe;

    internal override bool MustLast => isProbe;

    internal override void Execute(Ledger ledger)
    {
        ledger.Store.SaveClock(ledger.Clock.ToRow());
        Answer = true;
    }
}

/// <summary>Accepts a step of the system's clock: stored times that are compared with other clocks move with it.
/// The clock itself follows (<see cref="ServiceClock.Believe"/>) once this is on disk.</summary>
public sealed class BelieveStepCommand(ClockStep step) : LedgerCommand<ClockStep>(null)
{
    const int ComeBackWithinMs = 1000;

    internal override void Execute(Ledger ledger)
    {
        var row = ledger.Clock.RowAfter(step);
        long by = (long)step.By.TotalMicroseconds;
        // Sign-outs noted since the time began that is no longer believed. After a step back only those that would lie ahead.
        long from = by > 0 ? ledger.Clock.Began.Micros : row.SeenTime + (long)ServiceClock.Tolerance.TotalMicroseconds;
        ledger.Store.SaveClock(row);
        ledger.Store.ShiftStanding(from, by);
        shift = (from, by);
        Follow(ledger, from, by);
        Answer = step;
    }

    (long From, long By) shift;

    /// <summary>What ledgers of other spaces of the same store carry out once this is on disk.</summary>
    public FollowStepCommand ForOthers() => new(shift.From, shift.By);

    internal static void Follow(Ledger ledger, long from, long by)
    {
        foreach (var name in ledger.KnownSpaces)
        {
            var state = ledger.Space(name);
            foreach (var user in state.ShiftStanding(from, by))
            {
                // One may have been opened since with a credential from before the sign-out: each comes back and is looked at again.
                if (by > 0) Standing.EndSessions(ledger, state, user, "signed-out", ComeBackWithinMs);
            }
        }
    }
}

/// <summary>Follows a step of the system's clock that another ledger of the same store has accepted.</summary>
/// <param name="from">Stored times from here on moved, in microseconds.</param>
/// <param name="by">By so many microseconds.</param>
public sealed class FollowStepCommand(long from, long by) : LedgerCommand<bool>(null)
{
    internal override void Execute(Ledger ledger)
    {
        BelieveStepCommand.Follow(ledger, from, by);
        Answer = true;
    }
}

/// <summary>An operator confirms the time: retention follows it at once.</summary>
public sealed class ConfirmRetentionCommand() : LedgerCommand<bool>(null)
{
    internal override void Execute(Ledger ledger)
    {
        ledger.Store.SaveClock(ledger.Clock.ToRow() with { HeldBack = 0, HeldSince = 0 });
        Answer = true;
    }
}
