using System.Data.Common;
using System.Security.Cryptography;
using System.Text;

namespace Rovett.Storage.Homes;

/// <summary>How far a move is.</summary>
/// <param name="Table">The table.</param>
/// <param name="Checking">Its copy is compared; otherwise it is copied.</param>
/// <param name="Done">Rows of all tables copied or compared so far.</param>
/// <param name="All">Rows that there are to copy and to compare in all.</param>
public sealed record MoveProgress(string Table, bool Checking, long Done, long All);

/// <summary>What was moved.</summary>
/// <param name="Tables">Tables.</param>
/// <param name="Rows">Rows.</param>
/// <param name="Epoch">The store's new life.</param>
public sealed record MoveResult(int Tables, long Rows, Epoch Epoch);

/// <summary>Moves everything that is stored from a data folder to a database or back. Both must be at rest. The copy is compared with
/// what it was made of, row by row, and begins a new life: cursors from before get a gap, connect tickets and idempotency answers are
/// void. A move that was interrupted goes on where it was; until it is done its target can't be served.</summary>
public static class StoreMove
{
    const int Chunk = 5000;

    // What is void in a new life, and what migrations note.
    static readonly HashSet<string> Left = new(StringComparer.OrdinalIgnoreCase) { "answer", "ticket", "SchemaVersions" };

    /// <summary>Moves.</summary>
    /// <param name="from">Where it is.</param>
    /// <param name="to">Where it goes: empty, or the target of the same move that was interrupted.</param>
    /// <param name="progress">Hears how far it is.</param>
    /// <param name="stop">Interrupts it; what was copied stays.</param>
    /// <exception cref="StoreException">The target is not empty, or the copy differs.</exception>
    /// <exception cref="OperationCanceledException">It was interrupted.</exception>
    public static MoveResult Run(MoveSide from, MoveSide to, Action<MoveProgress> progress, CancellationToken stop)
    {
        try
        {
            return Move(from, to, progress, stop);
        }
        catch (DbException error)
        {
            throw new StoreException($"The move stopped: {error.Message}. Run it again; it goes on where it was.", error);
        }
    }

    static MoveResult Move(MoveSide from, MoveSide to, Action<MoveProgress> progress, CancellationToken stop)
    {
        to.Begin(from.Name);
        var tables = from.Tables.Where(t => !Left.Contains(t.Name)).ToList();
        long rows = tables.Sum(from.Count), done = 0;
        foreach (var table in tables)
        {
            var there = to.Same(table);
            long before = to.Count(there);
            done += before;
            var last = before > 0 && table.HasKey ? to.Last(there) : null;
            while (before == 0 || table.HasKey)
            {
                stop.ThrowIfCancellationRequested();
                var some = from.Read(table, last, table.HasKey ? Chunk : null);
                if (some.Count == 0) break;
                to.Write(there, some);
                done += some.Count;
                progress(new MoveProgress(table.Name, false, done, rows * 2));
                if (!table.HasKey) break;
                last = [.. table.Key.Select(k => some[^1][k])];
            }
        }
        done = rows; // some may have been copied before
        foreach (var table in tables)
        {
            void Compared(int count) => progress(new MoveProgress(table.Name, true, done += count, rows * 2));
            if (!Compare(from, table, to, to.Same(table), stop, Compared))
            {
                throw new StoreException($"The copy of the table {table.Name} differs from what it was made of: something else wrote to " +
                    "one of them meanwhile. Begin again with an empty target.");
            }
        }
        to.Draw(from.Drawn());
        var epoch = Epoch.New();
        to.End(epoch);
        from.Leave(to.Name);
        return new MoveResult(tables.Count, rows, epoch);
    }

    static bool Compare(MoveSide from, MoveTable table, MoveSide to, MoveTable there, CancellationToken stop, Action<int> compared)
    {
        object?[]? last = null;
        for (; ; )
        {
            stop.ThrowIfCancellationRequested();
            int? most = table.HasKey ? Chunk : null;
            var (here, copy) = (from.Read(table, last, most), to.Read(there, last, most));
            if (!Hash(here, table.HasKey).AsSpan().SequenceEqual(Hash(copy, table.HasKey))) return false;
            compared(here.Count);
            if (here.Count == 0 || !table.HasKey) return true;
            last = [.. table.Key.Select(k => here[^1][k])];
        }
    }

    /// <summary>The hash of rows; without a key their order does not count.</summary>
    static byte[] Hash(List<object?[]> rows, bool isInOrder)
    {
        if (isInOrder) return Hash(rows);
        var each = rows.ConvertAll(r => Convert.ToHexString(Hash([r])));
        each.Sort(StringComparer.Ordinal);
        return SHA256.HashData(Encoding.ASCII.GetBytes(string.Join('\n', each)));
    }

    static byte[] Hash(List<object?[]> rows)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        Span<byte> head = stackalloc byte[9];
        foreach (var row in rows)
        {
            foreach (var value in row)
            {
                byte[] bytes = value switch
                {
                    null => [],
                    byte[] blob => blob,
                    string text => Encoding.UTF8.GetBytes(text),
                    _ => BitConverter.GetBytes((long)value),
                };
                head[0] = value switch { null => 0, byte[] => 1, string => 2, _ => 3 };
                BitConverter.TryWriteBytes(head[1..], (long)bytes.Length);
                hash.AppendData(head);
                hash.AppendData(bytes);
            }
        }
        return hash.GetHashAndReset();
    }
}

/// <summary>A table as it is moved.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Columns">Its columns.</param>
/// <param name="Key">The numbers of the columns of its primary key, in the key's order.</param>
/// <param name="Part">The part of the store that it belongs to.</param>
public sealed record MoveTable(string Name, IReadOnlyList<string> Columns, IReadOnlyList<int> Key, int Part)
{
    /// <summary>It is moved in parts, by its key; otherwise as a whole.</summary>
    public bool HasKey => Key.Count > 0;
}

/// <summary>One end of a move: it holds its home for as long as it lives, so that nobody else writes there.</summary>
public abstract class MoveSide : IDisposable
{
    /// <summary>The home as people know it.</summary>
    public abstract string Name { get; }

    /// <summary>All tables.</summary>
    public IReadOnlyList<MoveTable> Tables => tables ??= [.. ReadTables().OrderBy(t => t.Part)
        .ThenByDescending(t => Array.IndexOf(First, t.Name)).ThenBy(t => t.Name, StringComparer.Ordinal)];

    // Others refer to them; the last of these comes first.
    static readonly string[] First = ["log", "person", "space"];

    IReadOnlyList<MoveTable>? tables;

    /// <summary>Finds out which tables there are.</summary>
    protected abstract IEnumerable<MoveTable> ReadTables();

    /// <summary>The connection to a table.</summary>
    protected abstract DbConnection To(MoveTable table);

    /// <summary>How a column is put in the order of its bytes.</summary>
    protected abstract string InOrder(MoveTable table, int column);

    /// <summary>Marks it as the target of a move.</summary>
    /// <exception cref="StoreException">It has something else already.</exception>
    public abstract void Begin(string source);

    /// <summary>Writes rows, all or none.</summary>
    public abstract void Write(MoveTable table, List<object?[]> rows);

    /// <summary>The highest numbers ever drawn, by table.</summary>
    public abstract IReadOnlyDictionary<string, long> Drawn();

    /// <summary>Draws higher numbers from now on.</summary>
    public abstract void Draw(IReadOnlyDictionary<string, long> above);

    /// <summary>The move is complete: it may be served.</summary>
    public abstract void End(Epoch epoch);

    /// <summary>It was moved: it is not served by mistake.</summary>
    public abstract void Leave(string target);

    /// <summary>The same table at this end.</summary>
    /// <exception cref="StoreException">There is none, or it has other columns.</exception>
    public MoveTable Same(MoveTable table) =>
        Tables.FirstOrDefault(t => t.Name == table.Name) is { } found && table.Columns.All(found.Columns.Contains)
            ? found with { Columns = table.Columns, Key = table.Key }
            : throw new StoreException($"{Name} has no table {table.Name} with the same columns: it is of another version of Rovett.");

    /// <summary>How many rows there are.</summary>
    public long Count(MoveTable table)
    {
        using var command = To(table).CreateCommand();
        command.CommandText = $"SELECT count(*) FROM {Quoted(table.Name)}";
        return (long)command.ExecuteScalar()!;
    }

    /// <summary>The key of the last row; null: it is empty.</summary>
    public object?[]? Last(MoveTable table)
    {
        using var command = To(table).CreateCommand();
        command.CommandText = $"SELECT {string.Join(", ", table.Key.Select(k => Quoted(table.Columns[k])))} FROM {Quoted(table.Name)} " +
            $"ORDER BY {string.Join(", ", table.Key.Select(k => InOrder(table, k) + " DESC"))} LIMIT 1";
        using var reader = command.ExecuteReader();
        return reader.Read() ? Row(reader) : null;
    }

    /// <summary>The rows after a key, in its order; of a table without one all.</summary>
    public List<object?[]> Read(MoveTable table, object?[]? after, int? most)
    {
        using var command = To(table).CreateCommand();
        var order = string.Join(", ", table.Key.Select(k => InOrder(table, k)));
        var where = "";
        if (after is not null)
        {
            where = $" WHERE ({order}) > ({string.Join(", ", after.Select((_, i) => $"@p{i}"))})";
            for (int i = 0; i < after.Length; i++)
            {
                var parameter = command.CreateParameter();
                (parameter.ParameterName, parameter.Value) = ($"p{i}", after[i]);
                command.Parameters.Add(parameter);
            }
        }
        command.CommandText = $"SELECT {string.Join(", ", table.Columns.Select(Quoted))} FROM {Quoted(table.Name)}{where}" +
            (most is null ? "" : $" ORDER BY {order} LIMIT {most}");
        var rows = new List<object?[]>();
        using var reader = command.ExecuteReader();
        while (reader.Read()) rows.Add(Row(reader));
        return rows;
    }

    static object?[] Row(DbDataReader reader)
    {
        var row = new object?[reader.FieldCount];
        for (int i = 0; i < row.Length; i++)
        {
            row[i] = reader.IsDBNull(i) ? null : reader.GetValue(i) switch
            {
                int number => (long)number,
                short number => (long)number,
                var other => other,
            };
        }
        return row;
    }

    /// <summary>A name in SQL.</summary>
    protected static string Quoted(string name) => $"\"{name}\"";

    /// <summary>Runs a statement.</summary>
    protected static void Execute(DbConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    /// <inheritdoc/>
    public abstract void Dispose();
}
