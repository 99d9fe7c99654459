using System.Data.Common;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>People, what they hold, what they have muted, and roles.</summary>
public sealed partial class SqlLedgerStore
{
    /// <inheritdoc/>
    public PersonRow? FindPerson(int space, string user) => Ahead.Use(ahead?.People, (space, user), out var known) ? known :
        sql.One(Rows.SelectPerson + " WHERE space=?1 AND name=?2", Rows.Person, (long)space, user);

    /// <inheritdoc/>
    public PersonRow? FindPerson(long person) => sql.One(Rows.SelectPerson + " WHERE id=?1", Rows.Person, person);

    /// <inheritdoc/>
    public PersonRow AddPerson(int space, string user, StoredTime? seen)
    {
        ahead?.People.Remove((space, user));
        long id = Draw(ref people, "person");
        sql.Run("INSERT INTO person (id, space, name, seen) VALUES (?1, ?2, ?3, ?4)", id, (long)space, user, seen?.Micros);
        return new PersonRow(id, user, seen, 0, 0, 0, [], [], null, null);
    }

    /// <inheritdoc/>
    public void SavePerson(PersonRow p) =>
        sql.Run("UPDATE person SET name=?2, seen=?3, rev=?4, roles_issued_at=?5, token_roles=?6, directory_roles=?7, display_name=?8, " +
        "locale=?9, roles_changed_at=?10, valid_from=?11, blocked=?12, claims=?13, rules_seen=?14, ahead=?15, claims_at=?16, quiet=?17, " +
        "choices_rev=?18 WHERE id=?1",
            p.Id, p.User, p.Seen?.Micros, p.Rev, p.RolesIssuedAt, string.Join('\n', p.TokenRoles), string.Join('\n', p.DirectoryRoles),
            p.DisplayName, p.Locale, p.RolesChangedAt, p.ValidFrom, p.Blocked ? 1L : 0L, p.Claims, p.RulesSeen, string.Join(',', p.Ahead),
            p.ClaimsAt, p.Quiet, p.ChoicesRev);

    /// <inheritdoc/>
    public IReadOnlyList<Membership> Memberships(long person) => ahead?.Memberships.Remove(person, out var known) == true ? known :
        sql.All("SELECT address, after, until, gained FROM membership WHERE person=?1 ORDER BY opened", ReadMembership, person);

    static Membership ReadMembership(DbDataReader r) => new(r.GetString(0), r.GetInt64(1), Rows.Number(r, 2), r.GetInt64(3));

    /// <inheritdoc/>
    public void OpenMembership(int space, long person, Membership membership)
    {
        ahead?.Memberships.Remove(person);
        sql.Run("INSERT INTO membership (person, space, address, after, gained) VALUES (?1, ?2, ?3, ?4, ?5)", person, (long)space,
            membership.Address, membership.After, membership.Gained);
        sql.Run("INSERT INTO address (space, address, members) VALUES (?1, ?2, 1) ON CONFLICT (space, address) DO UPDATE SET " +
            "members=address.members+1", (long)space, membership.Address);
    }

    /// <inheritdoc/>
    public void CloseMembership(int space, long person, string address, long until)
    {
        ahead?.Memberships.Remove(person);
        sql.Run("UPDATE membership SET until=?3 WHERE person=?1 AND address=?2 AND until IS NULL", person, address, until);
        sql.Run("UPDATE address SET members=members-1 WHERE space=?1 AND address=?2", (long)space, address);
    }

    /// <inheritdoc/>
    public long MembersOf(int space, string address) =>
        sql.Number("SELECT members FROM address WHERE space=?1 AND address=?2", (long)space, address) ?? -1;

    /// <inheritdoc/>
    public IReadOnlyList<(long Person, string User)> Holders(int space, string address, long after, int limit) =>
        sql.All("SELECT person, name FROM membership JOIN person ON person.id=person WHERE membership.space=?1 AND address=?2 AND " +
            "until IS NULL AND person>?3 ORDER BY person LIMIT ?4",
        r => (r.GetInt64(0), r.GetString(1)), (long)space, address, after, (long)limit);

    /// <inheritdoc/>
    public IReadOnlyList<UserLogRow> UserLogs(long person) =>
        ahead?.UserLogs.Remove(person, out var known) == true ? known : sql.All(Rows.SelectUserLogs, Rows.UserLog, person);

    /// <inheritdoc/>
    public void SaveUserLog(long person, UserLogRow r)
    {
        ahead?.UserLogs.Remove(person);
        sql.Run(NewUserLog, person, r.Log, r.ReadLine, r.ReceivedLine, r.HandledLine, r.MutedLine, r.Gone, r.JournalSeen, r.MutedThrough,
            (long)r.Parts, r.Segments is null ? null : Rows.SegmentBytes(r.Segments));
    }

    static readonly RowStatement NewUserLog = new(RowMode.Replace, "user_log", ["person", "log", "read_line", "received_line",
        "handled_line", "muted_line", "gone", "journal_seen", "muted_through", "parts", "segments"], "nnnnnnnnnnb", keys: 2);

    /// <inheritdoc/>
    public void ForgetUserLogs(long person)
    {
        ahead?.UserLogs.Remove(person);
        sql.Run("UPDATE user_log SET gone=NULL, segments=NULL WHERE person=?1", person);
    }

    /// <inheritdoc/>
    public IReadOnlyList<MuteRow> MutesOf(long person) => ahead?.Mutes.Remove(person, out var known) == true ? known :
        sql.All("SELECT is_type, text, after, until, since FROM mute WHERE person=?1 ORDER BY since", ReadMute, person);

    static MuteRow ReadMute(DbDataReader r) =>
        new(r.GetInt64(0) != 0, r.GetString(1), r.GetInt64(2), Rows.Number(r, 3), new StoredTime(r.GetInt64(4)));

    /// <inheritdoc/>
    public void AddMute(long person, MuteRow mute)
    {
        ahead?.Mutes.Remove(person);
        sql.Run("INSERT INTO mute (person, is_type, text, after, until, since) VALUES (?1, ?2, ?3, ?4, ?5, ?6)", person,
            mute.IsType ? 1L : 0L, mute.Text, mute.After, mute.Until, mute.Since.Micros);
    }

    /// <inheritdoc/>
    public void EndMute(long person, bool isType, string text, long until)
    {
        ahead?.Mutes.Remove(person);
        sql.Run("UPDATE mute SET until=?4 WHERE person=?1 AND is_type=?2 AND text=?3 AND until IS NULL", person, isType ? 1L : 0L,
            text, until);
    }

    /// <inheritdoc/>
    public RoleRow? FindRole(int space, string role) =>
        sql.One("SELECT role, display_name, newcomers, presence FROM role WHERE space=?1 AND role=?2",
        r => new RoleRow(r.GetString(0), Rows.Text(r, 1), Rows.Number(r, 2) is { } micros ? TimeSpan.FromMicroseconds(micros) : null,
        r.GetInt64(3) != 0), (long)space, role);

    /// <inheritdoc/>
    public void SaveRole(int space, RoleRow role) =>
        sql.Run("INSERT INTO role (space, role, display_name, newcomers, presence) VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT (space, " +
        "role) DO UPDATE SET display_name=?3, newcomers=?4, presence=?5",
            (long)space, role.Role, role.DisplayName, role.Newcomers is { } lookBack ? (long)lookBack.TotalMicroseconds : null,
            role.Presence ? 1L : 0L);
}
