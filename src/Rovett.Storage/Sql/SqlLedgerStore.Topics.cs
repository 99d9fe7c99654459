using System.Data.Common;
using Rovett.Core.Policies;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>Topics: follows, policies, grants.</summary>
public sealed partial class SqlLedgerStore
{
    const string SelectGrant = "SELECT number, person, role, topic, rights, until, ended, policy, profile, since FROM topic_grant";

    static Grant ReadGrant(DbDataReader r) => new(r.GetInt64(0), r.GetInt64(1), r.GetString(2), r.GetString(3), (TopicRights)r.GetInt64(4),
        Rows.Number(r, 5) is { } until ? new StoredTime(until) : null, Rows.Number(r, 6), r.GetString(7), r.GetString(8))
    { Since = r.GetInt64(9) };

    /// <inheritdoc/>
    public IReadOnlyList<(long Ordinal, long Position)> NewestItems(long log, long after, int limit) =>
        sql.All("SELECT ordinal, position FROM log_item WHERE log=?1 AND ordinal>?2 ORDER BY ordinal DESC LIMIT ?3",
        r => (r.GetInt64(0), r.GetInt64(1)), log, after, (long)limit);

    /// <inheritdoc/>
    public IReadOnlyList<KeyValuePair<string, long>> Follows(long person) => ahead?.Follows.Remove(person, out var known) == true ? known :
        sql.All("SELECT topic, since FROM follow WHERE person=?1 ORDER BY topic",
        r => KeyValuePair.Create(r.GetString(0), r.GetInt64(1)), person);

    /// <inheritdoc/>
    public void AddFollow(long person, string topic, long since)
    {
        ahead?.Follows.Remove(person);
        sql.Run("INSERT INTO follow (person, topic, since) VALUES (?1, ?2, ?3) ON CONFLICT (person, topic) DO UPDATE SET since=?3", person,
            topic, since);
    }

    /// <inheritdoc/>
    public void RemoveFollow(long person, string topic)
    {
        ahead?.Follows.Remove(person);
        sql.Run("DELETE FROM follow WHERE person=?1 AND topic=?2", person, topic);
    }

    /// <inheritdoc/>
    public void AddPolicies(int space, PolicyVersion version) =>
        sql.Run("INSERT INTO policies (key, time, document) VALUES (?1, ?2, ?3)", Rows.Key(space, version.Position), version.Time.Micros,
        version.Document);

    /// <inheritdoc/>
    public PolicyVersion? PoliciesAt(int space, long position) =>
        sql.One("SELECT key, time, document FROM policies WHERE key>=?1 AND key<=?2 ORDER BY key DESC LIMIT 1",
        r => new PolicyVersion(Rows.PositionOf(r.GetInt64(0)), new StoredTime(r.GetInt64(1)), Rows.Bytes(r, 2)),
            Rows.First(space), Rows.Key(space, position));

    /// <inheritdoc/>
    public IReadOnlyList<long> PolicyPositions(int space, long after) =>
        sql.All("SELECT key FROM policies WHERE key>?1 AND key<=?2 ORDER BY key", r => Rows.PositionOf(r.GetInt64(0)),
        Rows.Key(space, after), Rows.Last(space));

    /// <inheritdoc/>
    public long RulesAt(int space)
    {
        long loaded =
            Rows.PositionOf(
            sql.Number("SELECT key FROM policies WHERE key>=?1 AND key<=?2 ORDER BY key DESC LIMIT 1", Rows.First(space), Rows.Last(space))
            ?? 0);
        long given = sql.Number("SELECT max(number) FROM topic_grant WHERE space=?1 AND role<>''", (long)space) ?? 0;
        long ended = sql.Number("SELECT max(ended) FROM topic_grant WHERE space=?1 AND role<>'' AND ended IS NOT NULL", (long)space) ?? 0;
        return Math.Max(loaded, Math.Max(given, ended));
    }

    /// <inheritdoc/>
    public void AddGrant(int space, Grant g) =>
        sql.Run("INSERT INTO topic_grant (space, number, person, role, topic, rights, until, policy, profile, since) VALUES (?1, ?2, " +
        "?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
            (long)space, g.Number, g.Person, g.Role, g.Topic, (long)g.Rights, g.Until?.Micros, g.Policy, g.Profile, g.Since);

    /// <inheritdoc/>
    public void EndGrant(int space, long number, long ended) =>
        sql.Run("UPDATE topic_grant SET ended=?3 WHERE space=?1 AND number=?2", (long)space, number, ended);

    /// <inheritdoc/>
    public void RemoveGrant(int space, long number) => sql.Run("DELETE FROM topic_grant WHERE space=?1 AND number=?2", (long)space, number);

    /// <inheritdoc/>
    public Grant? FindGrant(int space, long number) =>
        sql.One(SelectGrant + " WHERE space=?1 AND number=?2", ReadGrant, (long)space, number);

    /// <inheritdoc/>
    public IReadOnlyList<Grant> GrantsOn(int space, string topic, bool endedToo) =>
        sql.All(SelectGrant + " WHERE space=?1 AND topic=?2" + (endedToo ? "" : " AND ended IS NULL") + " ORDER BY number", ReadGrant,
        (long)space, topic);

    /// <inheritdoc/>
    public IReadOnlyList<Grant> Grants(int space, long? person, string? role, string? topic, long after, int limit) =>
        sql.All(SelectGrant + " WHERE space=?1 AND ended IS NULL AND number>?2 AND (?3=-1 OR person=?3) AND (?4='' OR role=?4) AND " +
        "(?5='' OR topic=?5) ORDER BY number LIMIT ?6", ReadGrant,
            (long)space, after, person ?? -1L, role ?? "", topic ?? "", (long)limit);
}
