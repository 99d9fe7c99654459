using Rovett.Core.Addresses;

namespace Rovett.Core.Ledger;

/// <summary>What the directory says of a user. Members that are null are left as they are.</summary>
public sealed record DirectoryUser(UserId User, string? DisplayName, string? Locale, IReadOnlyList<string>? Roles)
{
    /// <summary>Whether no credential of the user's holds.</summary>
    public bool? Blocked { get; init; }
}

/// <summary>A user as backends and operators see one.</summary>
public sealed record UserInfo(PersonRow Row, IReadOnlyList<string> Held, long Unread, int Sessions);

/// <summary>Stores users in the directory; live sessions hear of what it changes before anything that comes after it.</summary>
/// <param name="space">The space's name.</param>
/// <param name="users">What is said of them.</param>
/// <param name="wantsAnswer">False for many: none of them is looked at any closer.</param>
public sealed class PutUsersCommand(string space, IReadOnlyList<DirectoryUser> users, bool wantsAnswer = true) : LedgerCommand<IReadOnlyList<UserInfo>>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
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

/// <summary>Looks a user up; null when nobody is known by that id.</summary>
public sealed class FindUserCommand(string space, string user) : LedgerCommand<UserInfo?>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        Answer = state.Find(user) is { } found ? InfoOf(state, found) : null;
    }

    internal static UserInfo InfoOf(SpaceState state, UserState user)
    {
        state.EnsureLogs(user);
        return new UserInfo(user.Row, [.. user.Held.Order(StringComparer.Ordinal)], user.CountUnread(), user.Sessions.Count);
    }
}

/// <summary>Stores what a role is set to.</summary>
public sealed class PutRoleCommand(string space, RoleRow role) : LedgerCommand<RoleRow>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        ledger.Store.SaveRole(state.Id, role);
        state.Keep(role);
        Answer = role;
    }
}

/// <summary>Looks a role up: what it is set to, how many hold it, how many of them are connected.</summary>
public sealed class FindRoleCommand(string space, string role) : LedgerCommand<(RoleRow? Row, long Users, long Connected)>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        Answer = (state.Role(role), Math.Max(0, ledger.Store.MembersOf(state.Id, "role:" + role)), state.ConnectedWith("role:" + role));
    }
}

/// <summary>A user mutes a type or a subject, or hears of it again. Holds from now on.</summary>
public sealed class MuteCommand(string space, string userId, bool isType, string text, bool mute, Identity? by = null) : LedgerCommand<IReadOnlyList<MuteRow>>
{
    /// <summary>The most mutes a user may have at a time.</summary>
    public const int Max = 100;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var user = Users.Required(state, userId, by);
        bool muted = user.Mutes.Exists(m => m.Until is null && m.IsType == isType && m.Text == text);
        if (mute && !muted && user.Mutes.Count(m => m.Until is null) >= Max)
            throw new Problem(422, "too-many-mutes", "Too many mutes", $"The limit is {Max} for one user.", "End some of them first.").Throw();
        if (mute != muted)
        {
            state.EnsureLogs(user); // what came until now is settled under the old mutes
            foreach (var log in user.Logs!) log.Save(ledger.Store, user.PersonId, evenUnchanged: true);
            if (mute)
            {
                var row = new MuteRow(isType, text, state.Head, null, state.Time);
                ledger.Store.AddMute(user.PersonId, row);
                user.Mutes.Add(row);
            }
            else
            {
                ledger.Store.EndMute(user.PersonId, isType, text, state.Head);
                int index = user.Mutes.FindIndex(m => m.Until is null && m.IsType == isType && m.Text == text);
                user.Mutes[index] = user.Mutes[index] with { Until = state.Head };
            }
            ledger.NextRev(user);
        }
        Answer = [.. user.Mutes.Where(m => m.Until is null)];
    }
}

/// <summary>A user's mutes.</summary>
public sealed class MutesCommand(string space, string userId) : LedgerCommand<IReadOnlyList<MuteRow>>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger) => Answer = ledger.Space(space).Find(userId)?.Mutes.Where(m => m.Until is null).ToList() ?? [];
}
