using System.Data.Common;
using Npgsql;
using NpgsqlTypes;
using Rovett.Storage.Postgres;

namespace Rovett.Storage.Homes;

/// <summary>A PostgreSQL database at one end of a move.</summary>
public sealed class DatabaseSide : MoveSide
{
    /// <summary>Tables that only this home has: who writes.</summary>
    static readonly HashSet<string> OnlyHere =
        ["space_owner", "node", "batch_done", "access_version", "access_head", Moving, Moved, "schemaversions"];

    const string Moving = "moving", Moved = "moved_to";

    readonly PostgresHold hold;
    readonly NpgsqlConnection connection;
    readonly HashSet<(string, string)> texts = [];

    /// <summary>Takes a database, and brings it to the present schema.</summary>
    /// <exception cref="StoreException">A service uses it, or it can't be used.</exception>
    public DatabaseSide(string connectionString)
    {
        Name = new PostgresHome(connectionString).Name;
        hold = PostgresHistory.Hold(connectionString);
        connection = new NpgsqlConnection(PostgresHistory.Settings(connectionString));
        try
        {
            connection.Open();
        }
        catch (NpgsqlException error)
        {
            hold.Dispose();
            throw PostgresHistory.Unusable(error);
        }
    }

    /// <inheritdoc/>
    public override string Name { get; }

    /// <inheritdoc/>
    protected override DbConnection To(MoveTable table) => connection;

    /// <inheritdoc/>
    protected override string InOrder(MoveTable table, int column) =>
        Quoted(table.Columns[column]) + (texts.Contains((table.Name, table.Columns[column])) ? " COLLATE \"C\"" : "");

    /// <inheritdoc/>
    protected override IEnumerable<MoveTable> ReadTables()
    {
        var columns = new Dictionary<string, List<string>>();
        using (var command = new NpgsqlCommand("SELECT table_name, column_name, data_type FROM information_schema.columns " +
            "WHERE table_schema='public' ORDER BY table_name, ordinal_position", connection))
        {
            using var reader = command.ExecuteReader();
            while (reader.Read())
            {
                var (table, column) = (reader.GetString(0), reader.GetString(1));
                if (OnlyHere.Contains(table)) continue;
                (columns.TryGetValue(table, out var list) ? list : columns[table] = []).Add(column);
                if (reader.GetString(2) == "text") texts.Add((table, column));
            }
        }
        var keys = new Dictionary<string, List<string>>();
        using (var command = new NpgsqlCommand("SELECT k.table_name, k.column_name FROM information_schema.table_constraints c JOIN " +
            "information_schema.key_column_usage k ON k.constraint_name=c.constraint_name AND k.table_schema=c.table_schema " +
            "WHERE c.table_schema='public' AND c.constraint_type='PRIMARY KEY' ORDER BY k.table_name, k.ordinal_position", connection))
        {
            using var reader = command.ExecuteReader();
            while (reader.Read())
            {
                (keys.TryGetValue(reader.GetString(0), out var list) ? list : keys[reader.GetString(0)] = []).Add(reader.GetString(1));
            }
        }
        return columns.Select(t => new MoveTable(t.Key, t.Value,
            keys.TryGetValue(t.Key, out var key) ? [.. key.Select(k => t.Value.IndexOf(k))] : [], 0));
    }

    /// <inheritdoc/>
    public override void Begin(string source)
    {
        if (Exists(Moving))
        {
            using var command = new NpgsqlCommand($"SELECT source FROM {Moving}", connection);
            if ((string?)command.ExecuteScalar() == source) return;
        }
        if (Exists(Moving) || Tables.Any(t => t.Name is "space" or "api_key" && Count(t) > 0))
        {
            throw new StoreException($"{Name} has data already. Choose an empty database; nothing is overwritten.");
        }
        using var mark = new NpgsqlCommand($"CREATE TABLE {Moving} AS SELECT @source::text AS source", connection);
        mark.Parameters.AddWithValue("source", source);
        mark.ExecuteNonQuery();
    }

    bool Exists(string table) => Exists(connection, table);

    static bool Exists(NpgsqlConnection connection, string table)
    {
        using var command = new NpgsqlCommand($"SELECT to_regclass('{table}') IS NOT NULL", connection);
        return (bool)command.ExecuteScalar()!;
    }

    /// <inheritdoc/>
    public override void Write(MoveTable table, List<object?[]> rows)
    {
        // One statement, and so all or none.
        using var copy = connection.BeginBinaryImport(
            $"COPY {Quoted(table.Name)} ({string.Join(", ", table.Columns.Select(Quoted))}) FROM STDIN (FORMAT BINARY)");
        foreach (var row in rows)
        {
            copy.StartRow();
            foreach (var value in row)
            {
                switch (value)
                {
                    case null: copy.WriteNull(); break;
                    case string text: copy.Write(text, NpgsqlDbType.Text); break;
                    case byte[] blob: copy.Write(blob, NpgsqlDbType.Bytea); break;
                    default: copy.Write((long)value, NpgsqlDbType.Bigint); break;
                }
            }
        }
        copy.Complete();
    }

    /// <summary>The columns that draw numbers.</summary>
    List<(string Table, string Column)> Identities()
    {
        var found = new List<(string, string)>();
        using var command = new NpgsqlCommand("SELECT table_name, column_name FROM information_schema.columns WHERE " +
            "table_schema='public' AND is_identity='YES'", connection);
        using var reader = command.ExecuteReader();
        while (reader.Read()) found.Add((reader.GetString(0), reader.GetString(1)));
        return found;
    }

    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, long> Drawn()
    {
        var drawn = new Dictionary<string, long>();
        foreach (var (table, column) in Identities())
        {
            using var command = new NpgsqlCommand("SELECT last_value FROM pg_sequences WHERE schemaname='public' AND " +
                $"quote_ident(schemaname)||'.'||quote_ident(sequencename)=pg_get_serial_sequence('{table}', '{column}')", connection);
            if (command.ExecuteScalar() is long last) drawn[table] = last;
        }
        return drawn;
    }

    /// <inheritdoc/>
    public override void Draw(IReadOnlyDictionary<string, long> above)
    {
        foreach (var (table, column) in Identities())
        {
            Execute(connection, $"SELECT setval(pg_get_serial_sequence('{table}', '{column}'), greatest(n, 1), n > 0) FROM (SELECT " +
                $"greatest(coalesce(max({Quoted(column)}), 0), {above.GetValueOrDefault(table)}) AS n FROM {Quoted(table)}) AS drawn");
        }
        foreach (var table in new[] { "log", "person" })
        {
            Execute(connection, $"SELECT setval('{table}_block', (SELECT coalesce(max(id), 0) + 1 FROM {table}), false)");
        }
    }

    /// <inheritdoc/>
    public override void End(Epoch epoch) =>
        Execute(connection, $"BEGIN; UPDATE store SET epoch='{epoch}'; DELETE FROM answer; DROP TABLE {Moving}; COMMIT; ANALYZE");

    /// <inheritdoc/>
    public override void Leave(string target)
    {
        using var command = new NpgsqlCommand($"CREATE TABLE {Moved} AS SELECT @target::text AS target", connection);
        command.Parameters.AddWithValue("target", target);
        command.ExecuteNonQuery();
    }

    /// <summary>Refuses a database that a move is under way to, or that was moved away.</summary>
    /// <exception cref="StoreException">It is one.</exception>
    internal static void RequireSettled(NpgsqlConnection connection, string name)
    {
        if (Exists(connection, Moving))
        {
            throw new StoreException($"A move into {name} is not complete. Run 'rovett store move' again; it goes on where it was.");
        }
        if (!Exists(connection, Moved)) return;
        using var command = new NpgsqlCommand($"SELECT target FROM {Moved}", connection);
        throw new StoreException($"{name} was moved to {command.ExecuteScalar()}. To serve the database all the same, as it was before " +
            $"the move, drop its table {Moved}.");
    }

    /// <inheritdoc/>
    public override void Dispose()
    {
        PostgresSql.Close(connection);
        hold.Dispose();
    }
}
