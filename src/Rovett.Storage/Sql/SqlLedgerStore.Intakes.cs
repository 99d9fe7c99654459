using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>Intakes.</summary>
public sealed partial class SqlLedgerStore
{
    /// <inheritdoc/>
    public IReadOnlyList<IntakePosition> IntakePositions(int space, string intake) => IntakePositions(sql, space, intake);

    internal static IReadOnlyList<IntakePosition> IntakePositions(ISql sql, int space, string intake) =>
        sql.All("SELECT part, place FROM intake_position WHERE space=?1 AND intake=?2 ORDER BY part",
        r => new IntakePosition(r.GetString(0), r.GetString(1)), (long)space, intake);

    /// <inheritdoc/>
    public void SaveIntakePosition(int space, string intake, IntakePosition position) =>
        sql.Run("INSERT INTO intake_position (space, intake, part, place) VALUES (?1, ?2, ?3, ?4) ON CONFLICT (space, intake, part) DO " +
        "UPDATE SET place=?4", (long)space, intake, position.Part, position.Value);

    /// <inheritdoc/>
    public bool IsIntakePaused(int space, string intake) =>
        sql.Number("SELECT paused FROM intake WHERE space=?1 AND name=?2", (long)space, intake) == 1;

    /// <inheritdoc/>
    public void SaveIntakePaused(int space, string intake, bool isPaused) =>
        sql.Run("INSERT INTO intake (space, name, paused) VALUES (?1, ?2, ?3) ON CONFLICT (space, name) DO UPDATE SET paused=?3",
        (long)space, intake, isPaused ? 1L : 0L);

    /// <inheritdoc/>
    public bool IsSetAside(int space, string origin) =>
        sql.Number("SELECT number FROM set_aside WHERE space=?1 AND origin=?2", (long)space, origin) is not null;
}
