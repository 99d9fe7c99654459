using Rovett.Core.Policies;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>The facts about a user that a decider is given.</summary>
/// <param name="Roles">The roles held.</param>
/// <param name="Claims">The claims of the newest token that policies look at.</param>
public sealed record UserFacts(IReadOnlyList<string> Roles, IReadOnlyDictionary<string, IReadOnlyList<string>> Claims);

/// <summary>Reads the facts about a user that a decider is given.</summary>
public sealed class FactsCommand(string space, string userId) : LedgerCommand<UserFacts>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var user = ledger.Space(Space).Find(userId);
        Answer = user is null ? new UserFacts([], new Dictionary<string, IReadOnlyList<string>>())
            : new UserFacts(
            [.. user.Held.Where(a => a.StartsWith("role:", StringComparison.Ordinal)).Select(a => a[5..]).Order(StringComparer.Ordinal)],
            ClaimSet.Read(user.Row.Claims));
    }
}
