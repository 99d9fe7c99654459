using System.Data.Common;
using Microsoft.Data.Sqlite;
using Rovett.Storage.Sqlite;

namespace Rovett.Storage.Homes;

/// <summary>A data folder at one end of a move.</summary>
public sealed class FolderSide : MoveSide
{
    /// <summary>The file of a folder that a move into it is not complete.</summary>
    internal const string Moving = "moving";

    /// <summary>The file of a folder that was moved away.</summary>
    internal const string Moved = "moved-to";

    readonly string folder;
    readonly DataFolderLock held;
    readonly SqliteConnection[] parts;

    /// <summary>Takes a folder, and brings it to the present schema.</summary>
    /// <param name="folder">The folder; made if it is missing.</param>
    /// <exception cref="StoreException">A service uses it.</exception>
    public FolderSide(string folder)
    {
        this.folder = Path.GetFullPath(folder);
        Directory.CreateDirectory(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        held = DataFolderLock.Take(folder);
        try
        {
            parts = [Open(SqliteFiles.HistoryName, "Sqlite.Migrations"), Open(SqliteFiles.AccessName, "Sqlite.AccessMigrations")];
        }
        catch
        {
            held.Dispose();
            throw;
        }
    }

    SqliteConnection Open(string name, string migrations)
    {
        var path = Path.Combine(folder, name);
        SqliteFiles.MakeOwn(path);
        SqliteFiles.Migrate(path, migrations);
        return SqliteFiles.Open(path, readOnly: false);
    }

    /// <inheritdoc/>
    public override string Name => folder;

    /// <inheritdoc/>
    protected override DbConnection To(MoveTable table) => parts[table.Part];

    /// <inheritdoc/>
    protected override string InOrder(MoveTable table, int column) => Quoted(table.Columns[column]);

    /// <inheritdoc/>
    protected override IEnumerable<MoveTable> ReadTables()
    {
        for (int part = 0; part < parts.Length; part++)
        {
            var names = new List<string>();
            using (var command = parts[part].CreateCommand())
            {
                command.CommandText = "SELECT name FROM sqlite_master WHERE type='table' AND name NOT LIKE 'sqlite%'";
                using var reader = command.ExecuteReader();
                while (reader.Read()) names.Add(reader.GetString(0));
            }
            foreach (var name in names)
            {
                var (columns, key) = (new List<string>(), new List<(long Order, int Column)>());
                using var command = parts[part].CreateCommand();
                command.CommandText = $"SELECT name, pk FROM pragma_table_info('{name}') ORDER BY cid";
                using var reader = command.ExecuteReader();
                while (reader.Read())
                {
                    if (reader.GetInt64(1) > 0) key.Add((reader.GetInt64(1), columns.Count));
                    columns.Add(reader.GetString(0));
                }
                yield return new MoveTable(name, columns, [.. key.Order().Select(k => k.Column)], part);
            }
        }
    }

    /// <inheritdoc/>
    public override void Begin(string source)
    {
        var mark = Path.Combine(folder, Moving);
        if (File.Exists(mark) && File.ReadAllText(mark) == source) return;
        if (File.Exists(mark) || Tables.Any(t => t.Name is "space" or "api_key" && Count(t) > 0))
        {
            throw new StoreException($"{folder} has data already. Choose a new folder; nothing is overwritten.");
        }
        File.WriteAllText(mark, source);
    }

    /// <inheritdoc/>
    public override void Write(MoveTable table, List<object?[]> rows)
    {
        var connection = parts[table.Part];
        using var transaction = connection.BeginTransaction();
        using var insert = connection.CreateCommand();
        insert.Transaction = transaction;
        insert.CommandText = $"INSERT INTO {Quoted(table.Name)} ({string.Join(", ", table.Columns.Select(Quoted))}) VALUES " +
            $"({string.Join(", ", table.Columns.Select((_, i) => $"@p{i}"))})";
        var values = table.Columns.Select((_, i) => insert.Parameters.Add(new SqliteParameter { ParameterName = $"p{i}" })).ToList();
        foreach (var row in rows)
        {
            for (int i = 0; i < row.Length; i++) values[i].Value = row[i] ?? DBNull.Value;
            insert.ExecuteNonQuery();
        }
        transaction.Commit();
    }

    /// <inheritdoc/>
    public override IReadOnlyDictionary<string, long> Drawn()
    {
        var drawn = new Dictionary<string, long>();
        foreach (var part in parts)
        {
            using var command = part.CreateCommand();
            command.CommandText = "SELECT name, seq FROM sqlite_sequence";
            using var reader = command.ExecuteReader();
            while (reader.Read()) drawn[reader.GetString(0)] = reader.GetInt64(1);
        }
        return drawn;
    }

    /// <inheritdoc/>
    public override void Draw(IReadOnlyDictionary<string, long> above)
    {
        foreach (var part in parts)
        {
            foreach (var (table, number) in above)
            {
                using var command = part.CreateCommand();
                command.CommandText = "UPDATE sqlite_sequence SET seq=max(seq, @n) WHERE name=@t; " +
                    "INSERT INTO sqlite_sequence (name, seq) SELECT @t, @n WHERE NOT EXISTS " +
                    "(SELECT 1 FROM sqlite_sequence WHERE name=@t) AND EXISTS " +
                    "(SELECT 1 FROM sqlite_master WHERE name=@t AND sql LIKE '%AUTOINCREMENT%')";
                command.Parameters.AddWithValue("n", number);
                command.Parameters.AddWithValue("t", table);
                command.ExecuteNonQuery();
            }
        }
    }

    /// <inheritdoc/>
    public override void End(Epoch epoch)
    {
        Execute(parts[0], $"UPDATE store SET epoch='{epoch}'; DELETE FROM answer");
        File.Delete(Path.Combine(folder, Moving));
    }

    /// <inheritdoc/>
    public override void Leave(string target) => File.WriteAllText(Path.Combine(folder, Moved), target);

    /// <summary>Refuses a folder that a move is under way to, or that was moved away.</summary>
    /// <exception cref="StoreException">It is one.</exception>
    internal static void RequireSettled(string folder)
    {
        if (File.Exists(Path.Combine(folder, Moving)))
        {
            throw new StoreException($"A move into {folder} is not complete. Run 'rovett store move' again; it goes on where it was.");
        }
        var moved = Path.Combine(folder, Moved);
        if (File.Exists(moved))
        {
            throw new StoreException($"{folder} was moved to {File.ReadAllText(moved)}. To serve the folder all the same, as it was " +
                $"before the move, remove {moved}.");
        }
    }

    /// <inheritdoc/>
    public override void Dispose()
    {
        foreach (var part in parts) part.Dispose();
        held.Dispose();
    }
}
