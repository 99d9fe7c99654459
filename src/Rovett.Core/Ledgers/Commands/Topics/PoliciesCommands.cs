using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Policies;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Loads a version of the policies, all or nothing; users who lose a right leave the channel before
/// anything that comes after it.</summary>
/// <param name="space">The space's name.</param>
/// <param name="policies">The policies.</param>
/// <param name="document">As they are stored.</param>
/// <param name="inPlaceOf">The version that must be in force; null: any.</param>
public sealed class PutPoliciesCommand(string space, PolicySet policies, byte[] document, long? inPlaceOf)
    : SteppedCommand<PolicyVersion>(space)
{
    internal override bool MayRevoke => true;

    private protected override bool ChangesRights => true;

    private protected override List<UserState> Begin(Ledger ledger, SpaceState state)
    {
        if (inPlaceOf is { } expected && expected != state.Topics.Current.Position)
            throw new Problem(412, "other-version", "Another version is in effect",
                $"Version {state.Topics.Current.Position} is in effect, not {expected}.",
                "Read the version in effect (GET /v1/policies) and apply your change to it.").ToException();
        var (position, time) = state.Draw();
        ledger.Store.AppendEntry(state.Id,
            new EntryRow(position, time, EntryKind.Policies, default, Encoding.UTF8.GetBytes($"\"policies\":{policies.All.Count}"),
            Addressing.None, [],
            NotificationTraits.None));
        Answer = new PolicyVersion(position.Value, time, document);
        ledger.Store.AddPolicies(state.Id, Answer);
        state.Topics.Load(position.Value, policies);
        return [.. state.Connected.All];
    }

    private protected override bool Step(Ledger ledger, SpaceState space, UserState user)
    {
        if (!user.UsesTopics) return false;
        if (user.Follows.Count > 0) user.Row = user.Row with { RulesSeen = Answer.Position };
        Roles.Reconsider(ledger, space, user, Answer.Position);
        return true;
    }
}

/// <summary>The policies in force at a position; null: none were loaded.</summary>
public sealed class FindPoliciesCommand(string space, long? position) : LedgerCommand<PolicyVersion?>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = ledger.Store.PoliciesAt(state.Id, position ?? state.Head);
    }
}
