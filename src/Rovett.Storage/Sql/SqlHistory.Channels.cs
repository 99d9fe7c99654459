namespace Rovett.Storage.Sql;

/// <summary>A role, a topic or everyone, with what was sent to it alone.</summary>
/// <param name="Address">Its address.</param>
/// <param name="Members">Users who hold the role, or follow the topic.</param>
/// <param name="Sent">Notifications that were ever sent to it alone.</param>
/// <param name="Last">When the newest of them was.</param>
public sealed record ListedChannel(string Address, long Members, long Sent, StoredTime? Last);

/// <summary>A user on a channel.</summary>
/// <param name="User">The id.</param>
/// <param name="DisplayName">The name that people read.</param>
/// <param name="Since">Since when; null: since the beginning of what is kept.</param>
public sealed record ChannelMember(string User, string? DisplayName, StoredTime? Since);

/// <summary>Lists channels.</summary>
public sealed partial class SqlHistory
{
    /// <summary>Channels of a space that somebody is a member of, by their address, after one; with a text, those that have it.</summary>
    public IReadOnlyList<ListedChannel> Channels(int space, string after, int limit, string? text) => Use(sql =>
    {
        var found = sql.All("SELECT address, members FROM address WHERE space=?1 AND members>0 AND address>?2 AND (?3='' OR " +
            "lower(address) LIKE ?3 ESCAPE '\\') ORDER BY address LIMIT ?4", r => (Address: r.GetString(0), Members: r.GetInt64(1)),
            (long)space, after, text is null ? "" : $"%{Pattern(text)}%", (long)limit);
        return found.Select(f => Listed(sql, space, f.Address, f.Members)).ToList();
    });

    /// <summary>One of them, whether or not anybody is a member.</summary>
    public ListedChannel? Channel(int space, string address) => Use(sql => Listed(sql, space, address,
        sql.Number("SELECT members FROM address WHERE space=?1 AND address=?2", (long)space, address) ?? 0));

    static ListedChannel Listed(ISql sql, int space, string address, long members)
    {
        var newest = sql.One("SELECT i.ordinal, i.position FROM log l JOIN log_item i ON i.log=l.id WHERE l.space=?1 AND l.key=?2 " +
            "ORDER BY i.ordinal DESC LIMIT 1", r => Tuple.Create(r.GetInt64(0), r.GetInt64(1)), (long)space, "+" + address);
        return new ListedChannel(address, members, newest?.Item1 ?? 0, newest is null ? null : TimeOf(sql, space, newest.Item2));
    }

    /// <summary>Members of a channel by their ids, after one.</summary>
    public IReadOnlyList<ChannelMember> Members(int space, string address, string after, int limit) => Use(sql => sql.All(
        "SELECT p.name, p.display_name, m.after FROM membership m JOIN person p ON p.id=m.person WHERE m.space=?1 AND m.address=?2 AND " +
        "m.until IS NULL AND p.name>?3 AND p.name>=' ' ORDER BY p.name LIMIT ?4",
        r => (Name: r.GetString(0), Shown: Rows.Text(r, 1), After: r.GetInt64(2)), (long)space, address, after, (long)limit)
        .Select(m => new ChannelMember(m.Name, m.Shown, TimeOf(sql, space, m.After))).ToList());

    static StoredTime? TimeOf(ISql sql, int space, long position) =>
        sql.Number("SELECT time FROM entry WHERE key=?1", Rows.Key(space, position)) is { } time ? new StoredTime(time) : null;

    static string Pattern(string text) =>
        System.Text.RegularExpressions.Regex.Replace(text.ToLowerInvariant(), @"[\\%_]", @"\$0");
}
