using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Answers of deciders that expire soon and are in use, so that they can be renewed in time.</summary>
public sealed class EndingAnswersCommand(string space, TimeSpan within) : LedgerCommand<IReadOnlyList<GrantInfo>>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var found = new List<GrantInfo>();
        foreach (var due in ledger.Store.Due(state.Id, new StoredTime(state.Due.Micros + (long)within.TotalMicroseconds), 1000))
        {
            if (due.Kind != DueKind.GrantEnd
                || ledger.Store.FindGrant(state.Id, due.Position) is not { Ended: null, Policy.Length: > 0 } grant)
            {
                continue;
            }
            if (state.Find(grant.Person) is { } user
                && (user.Holds("topic:" + grant.Topic) || user.Sessions.Exists(s => s.Topics.ContainsKey(grant.Topic))))
            {
                found.Add(new GrantInfo(grant, user.Id.Value));
            }
        }
        Answer = found;
    }
}
