using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>A command that affects many users. It is carried out in steps of a few users each, so that it never holds the ledger for long.
/// The first step stores what was decided. The later ones only apply it to connected users; if the process ends before they are done,
/// it is applied to each user when that user is next needed.</summary>
/// <remarks>As long as it <see cref="LedgerCommand.IsUnfinished"/>, its host carries it out again, and nothing else of its space in
/// between.</remarks>
/// <param name="space">The space's name.</param>
public abstract class SteppedCommand<T>(string space) : LedgerCommand<T>(space)
{
    // What changing a user costs; looking at one in vain costs 1.
    const int ChangeCost = 50;

    SpaceState? state;
    List<UserState> users = [];
    int at;
    T kept = default!; // the answer as of the last step that is stored
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

    /// <summary>Decides, and stores that.</summary>
    /// <returns>The users to apply it to.</returns>
    private protected abstract List<UserState> Begin(Ledger ledger, SpaceState space);

    /// <summary>After a failure the space was read again from the store.</summary>
    /// <returns>The users it is still to be applied to.</returns>
    private protected virtual List<UserState> BeginAgain(SpaceState space) => [];

    /// <summary>Applies it to one user.</summary>
    /// <returns>Whether there was anything to do.</returns>
    private protected abstract bool Step(Ledger ledger, SpaceState space, UserState user);

    /// <summary>After the last user.</summary>
    private protected virtual void End(Ledger ledger, SpaceState space) { }

    /// <summary>Until it is finished, some users have rights that they should not have.</summary>
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
