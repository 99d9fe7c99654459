using Rovett.Core.Marks;

namespace Rovett.Storage.Sql;

/// <summary>Marks and tallies.</summary>
public sealed partial class SqlLedgerStore
{
    /// <inheritdoc/>
    public OrdinalSet Skips(long person, long log) => Rows.Skips(sql, person, log);

    /// <inheritdoc/>
    public IBlockSource Blocks(long person, long log, MarkKind kind) =>
        new StoredBlocks(sql, person, log, kind) { Known = ahead?.BlocksOf(person, log, kind) };

    /// <inheritdoc/>
    public void SaveBlock(long person, long log, MarkKind kind, int block, byte[]? bits, int count)
    {
        ahead?.ForgetBlocks(person, log);
        if (bits is null)
        {
            sql.Run("DELETE FROM mark_block WHERE person=?1 AND log=?2 AND kind=?3 AND block=?4", person, log, (long)kind, (long)block);
        }
        else
        {
            sql.Run(Block, person, log, (long)kind, (long)block, bits, (long)count);
        }
    }

    /// <inheritdoc/>
    public void AddRun(long person, long log, MarkKind kind, OrdinalRun run, StoredTime time, string device) =>
        sql.Run(NewRun, log, (long)kind, person, run.From, run.To, time.Micros, device, run.Count > LongRun ? 1L : 0L);

    static readonly RowStatement NewRun = new(RowMode.Replace, "mark_run",
        ["log", "kind", "person", "from_ord", "to_ord", "time", "device", "is_long"], "nnnnnntn", keys: 4);
    static readonly RowStatement TallyOne = new(RowMode.Add, "tally", ["log", "kind", "ordinal", "difference"], "nnnn", keys: 3);
    static readonly RowStatement TallyBlock = new(RowMode.Add, "tally_block", ["log", "kind", "block", "difference"], "nnnn", keys: 3);
    static readonly RowStatement Block = new(RowMode.Replace, "mark_block", ["person", "log", "kind", "block", "bits", "count"], "nnnnbn",
        keys: 4);

    /// <inheritdoc/>
    public void ClearRun(long person, long log, MarkKind kind, OrdinalRun run)
    {
        var touched =
            sql.All("SELECT from_ord, to_ord, time, device FROM mark_run WHERE log=?1 AND kind=?2 AND person=?3 AND from_ord<=?5 AND " +
            "to_ord>=?4",
            r => (From: r.GetInt64(0), To: r.GetInt64(1), Time: new StoredTime(r.GetInt64(2)), Device: r.GetString(3)), log, (long)kind,
            person, run.From, run.To);
        foreach (var old in touched)
        {
            sql.Run("DELETE FROM mark_run WHERE log=?1 AND kind=?2 AND person=?3 AND from_ord=?4", log, (long)kind, person, old.From);
            if (old.From < run.From) AddRun(person, log, kind, new OrdinalRun(old.From, run.From - 1), old.Time, old.Device);
            if (old.To > run.To) AddRun(person, log, kind, new OrdinalRun(run.To + 1, old.To), old.Time, old.Device);
        }
    }

    /// <inheritdoc/>
    public void AddTally(long log, MarkKind kind, long ordinal, long difference)
    {
        sql.Run(TallyOne, log, (long)kind, ordinal, difference);
        sql.Run(TallyBlock, log, (long)kind, (ordinal - 1) / BlockSize, difference);
    }

    /// <inheritdoc/>
    public long Tally(long log, MarkKind kind, long ordinal) => TallyOf(sql, log, kind, ordinal);

    internal static long TallyOf(ISql sql, long log, MarkKind kind, long ordinal)
    {
        long block = (ordinal - 1) / BlockSize;
        return (sql.Number("SELECT CAST(sum(difference) AS BIGINT) FROM tally_block WHERE log=?1 AND kind=?2 AND block<?3", log, (long)kind,
            block) ?? 0)
            + (sql.Number("SELECT CAST(sum(difference) AS BIGINT) FROM tally WHERE log=?1 AND kind=?2 AND ordinal>?3 AND ordinal<=?4", log,
            (long)kind, block * BlockSize, ordinal) ?? 0);
    }
}
