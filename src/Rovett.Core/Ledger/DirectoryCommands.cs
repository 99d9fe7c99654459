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

/// <summary>Erases a person: sessions end, roles, marks, acks, mutes and takings go, the personal log becomes nobody's.
/// Its texts are scrubbed by <see cref="ScrubCommand"/>. What happened stays, under a name that says nothing.</summary>
public sealed class EraseUserCommand(string space, string userId) : LedgerCommand<(string Pseudonym, long Log)?>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (state.Find(userId) is not { } user) return;
        var personal = state.PersonalLog(userId);
        Changes.ReleaseLost(ledger, state, user, everything: true);
        Standing.EndSessions(ledger, state, user, "erased");
        user.Follows.Clear();
        Roles.Apply(ledger, state, user, user.Row with { Seen = null, TokenRoles = [], DirectoryRoles = [], DisplayName = null, Locale = null, Claims = "", RulesSeen = null });
        if (user.Held.Any()) Roles.Reconsider(ledger, state, user, null); // topics
        var pseudonym = $"erased-{user.PersonId}";
        state.Forget(user);
        ledger.Store.ErasePerson(user.PersonId);
        state.Topics.ForgetAll();
        ledger.Store.SavePerson(user.Row with { User = "\u0001" + pseudonym, Rev = 0, RolesIssuedAt = 0, ValidFrom = 0, Blocked = false }); // no id may hold a control character
        state.Rename(personal, "\u0001" + pseudonym);
        var (position, time) = state.Draw();
        ledger.Store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Erased, default, Changes.Member("person", pseudonym), "", [], NotificationTraits.None));
        Answer = (pseudonym, personal.Id);
    }
}

/// <summary>Scrubs the texts of an erased person's own notifications, a few at a time. What was sent to others too keeps
/// its text and loses the name. Answers whether there is more.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">The id that was erased.</param>
/// <param name="pseudonym">What stands for it.</param>
/// <param name="positions">The entries that named the person.</param>
public sealed class ScrubCommand(string space, string userId, string pseudonym, IReadOnlyList<long> positions) : LedgerCommand<bool>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        foreach (long position in positions)
        {
            if (ledger.Store.FindEntry(state.Id, position) is not { Kind: EntryKind.Notification } entry) continue;
            bool alone = entry.Placements.Length == 1 && !state.Log(entry.Placements[0].Log).Addresses.Any(a => a.Kind != AddressKind.User) && state.Log(entry.Placements[0].Log).Audience is null;
            var addressing = string.Join('\n', entry.Addressing.Split('\n').Select(line => line[1..] == "user:" + userId ? line[..1] + "user:" + pseudonym : line));
            ledger.Store.RewriteEntry(state.Id, position, alone ? [.. Changes.Member("type", "erased"), (byte)',', .. Changes.Member("title", "(erased)")] : entry.Body, addressing);
        }
        state.Recent.Clear();
        Answer = true;
    }
}

/// <summary>Puts the pseudonym where an erased person's id says who took something over, or missed a deadline.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">The id that was erased.</param>
/// <param name="pseudonym">What stands for it.</param>
/// <param name="entries">The positions of entries that may say it.</param>
/// <param name="receipts">The numbers of receipts that may.</param>
public sealed class ScrubActsCommand(string space, string userId, string pseudonym, IReadOnlyList<long> entries, IReadOnlyList<long> receipts) : LedgerCommand<bool>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        foreach (long position in entries)
        {
            if (ledger.Store.FindEntry(state.Id, position) is not { Kind: EntryKind.Taken or EntryKind.Missed } entry) continue;
            var members = Scrubbed("{" + System.Text.Encoding.UTF8.GetString(entry.Body) + "}", entry.Kind == EntryKind.Taken);
            ledger.Store.RewriteEntry(state.Id, position, System.Text.Encoding.UTF8.GetBytes(members[1..^1]), entry.Addressing);
        }
        foreach (long number in receipts)
        {
            // Who took it stands there alone; what a deadline says is an object.
            if (ledger.Store.ReceiptDetail(state.Id, number) is not { } detail) continue;
            if (detail == userId) ledger.Store.RewriteReceipt(state.Id, number, pseudonym);
            else if (detail.StartsWith('{')) ledger.Store.RewriteReceipt(state.Id, number, Scrubbed(detail, false));
        }
        state.Recent.Clear();
        Answer = true;
    }

    /// <summary>Of a deadline <c>by</c> is a state, not a person.</summary>
    string Scrubbed(string json, bool byIsPerson)
    {
        var root = (System.Text.Json.Nodes.JsonObject)System.Text.Json.Nodes.JsonNode.Parse(json)!;
        if (byIsPerson && (string?)root["by"] == userId) root["by"] = pseudonym;
        if (root["missingUsers"] is System.Text.Json.Nodes.JsonArray missing)
        {
            for (int i = 0; i < missing.Count; i++)
            {
                if ((string?)missing[i] == userId) missing[i] = pseudonym;
            }
        }
        return root.ToJsonString(Relaxed);
    }

    static readonly System.Text.Json.JsonSerializerOptions Relaxed = new() { Encoder = Delivery.MessageBuilder.Options.Encoder };
}

/// <summary>A user mutes a type or a subject, or hears of it again. Holds from now on.</summary>
public sealed class MuteCommand(string space, string userId, bool isType, string text, bool mute) : LedgerCommand<IReadOnlyList<MuteRow>>
{
    /// <summary>The most mutes a user may have at a time.</summary>
    public const int Max = 100;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var user = Users.Required(state, userId);
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
