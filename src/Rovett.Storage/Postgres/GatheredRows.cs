using Npgsql;
using NpgsqlTypes;
using Rovett.Storage.Sql;

namespace Rovett.Storage.Postgres;

/// <summary>Rows that are to be written together, table by table in the order in which the tables were first written to.</summary>
sealed class GatheredRows
{
    sealed class Rows
    {
        public readonly List<object?[]> List = [];
        public readonly Dictionary<(long, long, long, long), int> Places = []; // by key
    }

    readonly Dictionary<RowStatement, Rows> tables = [];
    readonly List<RowStatement> order = [];

    public bool IsEmpty => order.Count == 0;

    public void Clear()
    {
        foreach (var statement in order)
        {
            tables[statement].List.Clear();
            tables[statement].Places.Clear();
        }
        order.Clear();
    }

    public void Add(RowStatement statement, ReadOnlySpan<object?> values)
    {
        if (!tables.TryGetValue(statement, out var rows)) tables[statement] = rows = new Rows();
        if (rows.List.Count == 0) order.Add(statement);
        if (statement.Mode is RowMode.Replace or RowMode.Update)
        {
            long Key(ReadOnlySpan<object?> of, int n) => n < statement.Keys ? (long)of[n]! : 0;
            var key = (Key(values, 0), Key(values, 1), Key(values, 2), Key(values, 3));
            if (rows.Places.TryGetValue(key, out int at))
            {
                rows.List[at] = values.ToArray(); // a statement can't write a row twice
                return;
            }
            rows.Places[key] = rows.List.Count;
        }
        rows.List.Add(values.ToArray());
    }

    /// <summary>Gives them out.</summary>
    /// <param name="one">Takes the statement and the values of a single row.</param>
    /// <param name="many">Takes the statement and an array for each column.</param>
    public void Take(Single one, Action<string, NpgsqlParameter[]> many)
    {
        foreach (var statement in order)
        {
            var rows = tables[statement].List;
            if (rows.Count == 1) one(statement.One, rows[0]);
            else many(statement.Many, [.. statement.Types.Select((type, n) => Column(type, rows, n))]);
        }
        Clear();
    }

    /// <summary>Takes the statement and the values of a single row.</summary>
    public delegate void Single(string sql, ReadOnlySpan<object?> values);

    static NpgsqlParameter Column(char type, List<object?[]> rows, int n) => type switch
    {
        'n' when rows.TrueForAll(r => r[n] is not null) => Array(NpgsqlDbType.Bigint, rows.ConvertAll(r => (long)r[n]!).ToArray()),
        'n' => Array(NpgsqlDbType.Bigint, rows.ConvertAll(r => (long?)r[n]).ToArray()),
        't' => Array(NpgsqlDbType.Text, rows.ConvertAll(r => (string?)r[n]).ToArray()),
        _ => Array(NpgsqlDbType.Bytea, rows.ConvertAll(r => (byte[]?)r[n]).ToArray()),
    };

    static NpgsqlParameter Array(NpgsqlDbType of, Array values) => new() { Value = values, NpgsqlDbType = NpgsqlDbType.Array | of };
}
