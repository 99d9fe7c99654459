using Microsoft.Data.Sqlite;

namespace Rovett.Bench;

/// <summary>A copy of a service's history, written and read in the plainest way, with prepared statements: its newest rows again, under
/// new keys, into the same tables with the same indexes.</summary>
sealed class PlainHistory : IDisposable
{
    /// <summary>How many different rows it writes, at most.</summary>
    public const int Items = 1000;

    readonly SqliteConnection connection;
    readonly List<object[]> entries = [], items = [], people = [];
    readonly SqliteCommand begin, commit, entry, item, seen;
    bool lasts = true;
    long key, ordinal, id, time;

    public PlainHistory(string file)
    {
        connection = Open(file);
        // As the service sets it.
        Execute(connection, "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA secure_delete=ON; PRAGMA cache_size=-16000");
        Read($"SELECT * FROM entry ORDER BY key DESC LIMIT {Items}", entries);
        Read("SELECT i.* FROM log_item i JOIN (SELECT log, max(ordinal) o FROM log_item GROUP BY log) n ON n.log=i.log AND n.o=i.ordinal " +
            $"LIMIT {Items}", items);
        Read($"SELECT id FROM person LIMIT {Items}", people);
        (key, ordinal) = ((long)entries[0][0], items.Max(i => (long)i[1]));
        begin = Prepared("BEGIN IMMEDIATE");
        commit = Prepared("COMMIT");
        entry = Prepared("INSERT INTO entry VALUES", entries[0].Length);
        item = Prepared("INSERT INTO log_item VALUES", items[0].Length);
        seen = Prepared("UPDATE person SET roles_issued_at=$c0 WHERE id=$c1");
        seen.Parameters.AddWithValue("$c0", 0);
        seen.Parameters.AddWithValue("$c1", 0);
    }

    /// <summary>Copies a service's history while it is open there.</summary>
    public static void Copy(string history, string to)
    {
        using var from = new SqliteConnection($"Data Source={history};Mode=ReadOnly;Pooling=False");
        from.Open();
        using var copy = Open(to);
        from.BackupDatabase(copy);
    }

    /// <summary>Begins a commit.</summary>
    /// <param name="isLasting">Whether it waits for the disk.</param>
    public void Begin(bool isLasting = true)
    {
        if (isLasting != lasts) Execute(connection, $"PRAGMA synchronous={(isLasting ? "FULL" : "NORMAL")}");
        lasts = isLasting;
        begin.ExecuteNonQuery();
    }

    /// <summary>Adds a notification to one log.</summary>
    public void Add(int which)
    {
        var row = entries[which % entries.Count];
        BitConverter.TryWriteBytes(((byte[])row[3]).AsSpan(8), ++id);
        Insert(entry, row, (0, ++key));
        Insert(item, items[which % items.Count], (1, ++ordinal), (2, key));
    }

    /// <summary>Notes when a person's newest token was issued.</summary>
    public void Seen(int person)
    {
        seen.Parameters[0].Value = ++time;
        seen.Parameters[1].Value = people[person % people.Count][0];
        seen.ExecuteNonQuery();
    }

    public void Commit() => commit.ExecuteNonQuery();

    /// <summary>Opens a reader of the log with the most entries.</summary>
    public static Pages Longest(string file) => new(Open(file));

    /// <summary>Reads entries of one log, page by page.</summary>
    public sealed class Pages : IDisposable
    {
        readonly SqliteConnection connection;
        readonly SqliteCommand page;

        public Pages(SqliteConnection connection)
        {
            this.connection = connection;
            using var longest = connection.CreateCommand();
            longest.CommandText = "SELECT log FROM log_item GROUP BY log ORDER BY count(*) DESC LIMIT 1";
            page = connection.CreateCommand();
            page.CommandText = "SELECT i.ordinal, e.time, e.id, e.body FROM log_item i JOIN entry e ON e.key=$space+i.position WHERE " +
                "i.log=$log AND i.ordinal>$after ORDER BY i.ordinal LIMIT $count";
            page.Parameters.AddWithValue("$log", longest.ExecuteScalar()!);
            page.Parameters.AddWithValue("$after", 0);
            page.Parameters.AddWithValue("$count", 0);
            longest.CommandText = "SELECT max(key)>>44<<44 FROM entry";
            page.Parameters.AddWithValue("$space", longest.ExecuteScalar()!);
            page.Prepare();
        }

        /// <summary>Reads a page.</summary>
        /// <param name="after">The ordinal before its first.</param>
        /// <param name="count">How many entries.</param>
        /// <param name="each">Called with when each was sent, its id and its body.</param>
        /// <returns>The ordinal of the last.</returns>
        public long Read(long after, int count, Action<long, byte[], byte[]> each)
        {
            (page.Parameters[1].Value, page.Parameters[2].Value) = (after, count);
            using var reader = page.ExecuteReader();
            for (; reader.Read(); after = reader.GetInt64(0))
            {
                each(reader.GetInt64(1), reader.GetFieldValue<byte[]>(2), reader.GetFieldValue<byte[]>(3));
            }
            return after;
        }

        public void Dispose() => connection.Dispose();
    }

    static SqliteConnection Open(string file)
    {
        var connection = new SqliteConnection($"Data Source={file};Pooling=False");
        connection.Open();
        return connection;
    }

    static void Insert(SqliteCommand command, object[] row, params ReadOnlySpan<(int Column, object Value)> instead)
    {
        for (int i = 0; i < row.Length; i++) command.Parameters[i].Value = row[i];
        foreach (var (column, value) in instead) command.Parameters[column].Value = value;
        command.ExecuteNonQuery();
    }

    SqliteCommand Prepared(string sql, int columns = 0)
    {
        var command = connection.CreateCommand();
        var names = Enumerable.Range(0, columns).Select(i => $"$c{i}").ToList();
        command.CommandText = columns == 0 ? sql : $"{sql} ({string.Join(", ", names)})";
        foreach (var name in names) command.Parameters.AddWithValue(name, 0);
        if (columns > 0) command.Prepare();
        return command;
    }

    void Read(string sql, List<object[]> into)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        using var reader = command.ExecuteReader();
        while (reader.Read())
        {
            var row = new object[reader.FieldCount];
            reader.GetValues(row);
            into.Add(row);
        }
    }

    static void Execute(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }

    public void Dispose() => connection.Dispose();
}
