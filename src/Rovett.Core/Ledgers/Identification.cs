namespace Rovett.Core.Ledgers;

/// <summary>Applies a credential: its user, roles and claims.</summary>
static class Identification
{
    /// <summary>The user of a credential, known from now on.</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="state">The space.</param>
    /// <param name="identity">The contents of the credential.</param>
    /// <param name="mustLast">Whether something was written that a power cut must not lose.</param>
    /// <exception cref="ProblemException">The user is blocked, or signed out since the credential was made.</exception>
    public static UserState Take(Ledger ledger, SpaceState state, Identity identity, out bool mustLast)
    {
        var user = Standing.Find(state, identity) ?? state.FindOrAdd(identity.User.Value);
        var (head, before) = (state.Head, user.Row);
        Roles.TakeToken(ledger, state, user, identity);
        // A newer token that changes nothing need not last: the next token says the same.
        mustLast = state.Head != head || before.Seen is null || before.Claims != user.Row.Claims
            || !ReferenceEquals(before.Ahead, user.Row.Ahead) || !before.TokenRoles.SequenceEqual(user.Row.TokenRoles);
        return user;
    }
}
