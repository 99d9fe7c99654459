namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Lists grants in force.</summary>
public sealed class ListGrantsCommand(string space, string? user, string? role, string? topic, long after, int limit)
    : LedgerCommand<IReadOnlyList<GrantInfo>>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        long? person = user is null ? null : state.Find(user)?.PersonId ?? 0;
        Answer = person == 0
            ? []
            : [.. ledger.Store.Grants(state.Id, person, role, topic, after, limit)
            .Select(g => Grants.Info(ledger, g, g.Person == 0 ? null : state.Find(g.Person)?.Id.Value))];
    }
}
