namespace Rovett.Core.Ledgers;

/// <summary>Takes a credential into account: who shows it, and what it says of roles and claims.</summary>
static class Identification
{
    /// <summary>The user of a credential, known from now on.</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="state">The space.</param>
    /// <param name="identity">What the credential says.</param>
    /// <param name="mustLast">Whether something was written that a power cut must not lose.</param>
    /// <exception cref="ProblemException">The user is blocked, or signed out since the credential was made.</exception>
    public static UserState Take(Ledger ledger, SpaceState state, Identity identity, out bool mustLast)
    {
        var user = Standing.Find(state, identity) ?? state.FindOrAdd(identity.User.Value);
        var (head, before) = (state.Head, user.Row);
        Roles.TakeToken(ledger, state, user, identity);
        // Not a newer token that changes nothing: the token after it says the same again.
        mustLast = state.Head != head || before.Seen is null || before.Claims != user.Row.Claims
            || !ReferenceEquals(before.Ahead, user.Row.Ahead) || !before.TokenRoles.SequenceEqual(user.Row.TokenRoles);
        return user;
    }
}
