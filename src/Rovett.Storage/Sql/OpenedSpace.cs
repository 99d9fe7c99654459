using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>A space as it is opened at a start.</summary>
/// <param name="Row">The space.</param>
/// <param name="Policies">The policies in force; null: none.</param>
/// <param name="Types">The catalogue in force; null: none.</param>
public sealed record OpenedSpace(SpaceRow Row, PolicyVersion? Policies, RulesVersion? Types)
{
    /// <summary>Every space, oldest first, by a few questions for all of them.</summary>
    internal static IReadOnlyList<OpenedSpace> All(ISql sql) => Read(sql, "");

    /// <summary>One space, or null.</summary>
    internal static OpenedSpace? One(ISql sql, int space) => Read(sql, $" WHERE s.id={space}").SingleOrDefault();

    static IReadOnlyList<OpenedSpace> Read(ISql sql, string which)
    {
        string Newest(string table) => $"(SELECT key FROM {table} WHERE {SqlLedgerStore.Keys} ORDER BY key DESC LIMIT 1)";
        var policies = sql.All($"SELECT p.key, p.time, p.document FROM space s JOIN policies p ON p.key={Newest("policies")}{which}",
            r => (Key: r.GetInt64(0), Version: new PolicyVersion(Rows.PositionOf(r.GetInt64(0)), new StoredTime(r.GetInt64(1)),
            Rows.Bytes(r, 2)))).ToDictionary(p => (int)(p.Key >> Rows.SpaceShift), p => p.Version);
        var types = sql.All($"SELECT c.key, c.time, c.document FROM space s JOIN catalogue c ON c.key={Newest("catalogue")}{which}",
            r => (Key: r.GetInt64(0), Version: new RulesVersion(Rows.PositionOf(r.GetInt64(0)), new StoredTime(r.GetInt64(1)),
            Rows.Bytes(r, 2)))).ToDictionary(p => (int)(p.Key >> Rows.SpaceShift), p => p.Version);
        return [.. sql.All("SELECT s.id, s.name, s.key, s.floor, e.key, e.time FROM space s LEFT JOIN entry e ON " +
            $"e.key={Newest("entry")}{which} ORDER BY s.id", r => new SpaceRow((int)r.GetInt64(0), r.GetString(1), Rows.Bytes(r, 2),
            Rows.Number(r, 4) is { } newest ? Rows.PositionOf(newest) : 0, new StoredTime(Rows.Number(r, 5) ?? 0), r.GetInt64(3)))
            .Where(s => !s.Name.StartsWith('\u0001'))
            .Select(s => new OpenedSpace(s, policies.GetValueOrDefault(s.Id), types.GetValueOrDefault(s.Id)))];
    }
}
