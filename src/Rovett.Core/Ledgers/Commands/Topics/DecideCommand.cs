using Rovett.Core.Policies;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Decides one right of a user and changes nothing.</summary>
public sealed class DecideCommand(string space, string userId, string topic, TopicRights right) : LedgerCommand<Decision>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = state.Find(userId) is { } user ? state.Topics.Decide(user, topic, right) : new Decision(false, "");
    }
}

/// <summary>The decider that a policy asks now; null: there is no such policy, or it asks nobody.</summary>
public sealed class AskedByCommand(string space, string policy) : LedgerCommand<string?>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger) =>
        Answer = ledger.Space(Space).Topics.Current.Set.All.FirstOrDefault(p => p.Name == policy)?.Ask;
}

/// <summary>A user's number in the store; null: unknown id.</summary>
public sealed class NumberCommand(string space, string userId) : LedgerCommand<long?>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger) => Answer = ledger.Space(Space).Find(userId)?.PersonId;
}
