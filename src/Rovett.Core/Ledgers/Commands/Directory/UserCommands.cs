namespace Rovett.Core.Ledgers.Commands.Directory;

/// <summary>Stores users in the directory. Live sessions are told of changes before anything that comes after them.</summary>
/// <param name="space">The space's name.</param>
/// <param name="users">Their entries.</param>
/// <param name="wantsAnswer">False for an import, which needs no answer per user.</param>
public sealed class PutUsersCommand(string space, IReadOnlyList<DirectoryUser> users, bool wantsAnswer = true)
    : LedgerCommand<IReadOnlyList<UserInfo>>(space)
{
    internal override bool MayRevoke => true;

    /// <inheritdoc/>
    public override int Work => users.Count;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var answer = new List<UserInfo>(users.Count);
        foreach (var said in users)
        {
            var user = state.FindOrAdd(said.User.Value);
            var row = user.Row;
            Roles.Apply(ledger, state, user, row with
            {
                Seen = row.Seen ?? ledger.Now,
                DisplayName = said.DisplayName ?? row.DisplayName,
                Locale = said.Locale ?? row.Locale,
                DirectoryRoles = said.Roles ?? row.DirectoryRoles,
            });
            if (said.Blocked is { } blocked && blocked != user.Row.Blocked)
            {
                user.Row = user.Row with { Blocked = blocked };
                if (blocked) Standing.EndSessions(ledger, state, user, "blocked");
                Standing.Note(ledger, state, user, blocked ? "blocked" : "let-in");
            }
            if (wantsAnswer) answer.Add(FindUserCommand.InfoOf(state, user));
        }
        Answer = answer;
    }
}

/// <summary>Looks a user up; null when the id is unknown.</summary>
public sealed class FindUserCommand(string space, string user) : LedgerCommand<UserInfo?>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        Answer = state.Find(user) is { } found ? InfoOf(state, found) : null;
    }

    internal static UserInfo InfoOf(SpaceState state, UserState user)
    {
        state.UserLogs.Ensure(user);
        return new UserInfo(user.Row, [.. user.Held.Order(StringComparer.Ordinal)], user.CountUnread(), user.Sessions.Count);
    }
}
