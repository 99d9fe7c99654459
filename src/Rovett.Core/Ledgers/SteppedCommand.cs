using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>A command about many users that can hold the ledger for a few of them at a time. It changes the store with its first step;
/// what the others do follows from that, and is made up for by whoever looks at the users later if they don't come about.</summary>
/// <remarks>While it <see cref="LedgerCommand.IsUnfinished"/>, its host has it carried out again, and nothing else of its space.</remarks>
/// <param name="space">The space's name.</param>
public abstract class SteppedCommand<T>(string space) : LedgerCommand<T>(space)
{
    // Looking at a user costs 1; having something to do for one, this.
    const int ChangeCost = 50;

    SpaceState? state;
    List<UserState> users = [];
    int at;
    T kept = default!; // what was answered up to the last step that is stored
    int keptAt;
    bool hasBegun;

    /// <inheritdoc/>
    public override int StepSize { get; init; }

    /// <inheritdoc/>
    public sealed override int Work => StepSize > 0 ? 10 : 1;

    internal override bool MaySyncLater => hasBegun;

    internal sealed override bool MustLast => !hasBegun;

    internal sealed override void Reset()
    {
        base.Reset();
        IsUnfinished = false;
    }

    internal sealed override void Execute(Ledger ledger)
    {
        var space = ledger.Space(Space);
        if (!hasBegun)
        {
            (state, at) = (space, 0);
            users = Begin(ledger, space);
        }
        else
        {
            (Answer, at) = (kept, keptAt);
            if (space != state)
            {
                // A step failed, and the space was read again.
                (state, at) = (space, 0);
                users = BeginAgain(space);
            }
        }
        long left = StepSize > 0 ? (long)StepSize * ChangeCost : long.MaxValue;
        for (; at < users.Count && left > 0; at++) left -= Step(ledger, space, users[at]) ? ChangeCost : 1;
        IsUnfinished = at < users.Count;
        if (!IsUnfinished) End(ledger, space);
    }

    /// <summary>The first step.</summary>
    /// <returns>The users to look at.</returns>
    private protected abstract List<UserState> Begin(Ledger ledger, SpaceState space);

    /// <summary>The space was read again after the first step.</summary>
    /// <returns>The users to look at then.</returns>
    private protected virtual List<UserState> BeginAgain(SpaceState space) => [];

    /// <summary>Looks at one user.</summary>
    /// <returns>Whether there was anything to do.</returns>
    private protected abstract bool Step(Ledger ledger, SpaceState space, UserState user);

    /// <summary>All users were looked at.</summary>
    private protected virtual void End(Ledger ledger, SpaceState space) { }

    /// <summary>Until it is finished, users have rights that they should not have.</summary>
    private protected virtual bool ChangesRights => false;

    internal sealed override void Stored()
    {
        (kept, keptAt, hasBegun) = (Answer, at, true);
        if (ChangesRights) state!.IsChangingRights = IsUnfinished;
        if (!IsUnfinished) users = [];
    }

    internal sealed override void Fail(Exception error)
    {
        IsUnfinished = false;
        base.Fail(hasBegun ? new InDoubtException(error) : error);
    }
}
