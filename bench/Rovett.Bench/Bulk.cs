using System.Diagnostics;
using System.Net.Http.Headers;
using System.Text;
using Microsoft.Data.Sqlite;
using Rovett.Testing;

namespace Rovett.Bench;

/// <summary>A request of 1,000 notifications to one person each, beside plain SQLite that writes the same rows into the same tables with
/// prepared statements, 1,000 in a commit.</summary>
static class Bulk
{
    const int Items = 1000, Pairs = 5;
    static readonly TimeSpan Length = TimeSpan.FromSeconds(3);

    /// <summary>Measures, and answers what each of the pairs came to.</summary>
    public static async Task<List<(double Floor, double Rovett)>> Run()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-bulk-").FullName;
        try
        {
            using var service = await ServiceProcess.Start(folder);
            using var http = new HttpClient { BaseAddress = service.Url };
            http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", (string)service.Ready["credentials"]!["adminKey"]!);
            var body = Encoding.UTF8.GetBytes(string.Join('\n', Enumerable.Range(0, Items).Select(i =>
                $$$"""{"to":["user:person{{{i}}}"],"type":"engine.check.due","title":"Turnstone: bow thruster check due","link":"/vessels/turnstone/checks/{{{i}}}","data":{"pad":"{{{new string('x', 330)}}}"}}""")));
            async Task<double> Rovett()
            {
                long count = 0, start = Stopwatch.GetTimestamp();
                while (Stopwatch.GetElapsedTime(start) < Length)
                {
                    using var content = new ByteArrayContent(body);
                    content.Headers.ContentType = new MediaTypeHeaderValue("application/x-ndjson");
                    using var answer = await http.PostAsync("/v1/notifications", content);
                    answer.EnsureSuccessStatusCode();
                    count += Items;
                }
                return count / Stopwatch.GetElapsedTime(start).TotalSeconds;
            }
            for (int i = 0; i < 5; i++) await Rovett();
            var copy = Path.Combine(folder, "raw.db");
            using (var from = new SqliteConnection($"Data Source={Path.Combine(folder, "data", "history.db")};Mode=ReadOnly;Pooling=False"))
            using (var to = new SqliteConnection($"Data Source={copy};Pooling=False"))
            {
                from.Open();
                to.Open();
                from.BackupDatabase(to);
            }
            using var raw = new Raw(copy);
            var all = new List<(double Floor, double Rovett)>();
            for (int i = 0; i < Pairs; i++)
            {
                double floor = raw.Run(Length), rovett = await Rovett();
                all.Add((floor, rovett));
                Console.WriteLine($"notifications/s: SQLite {floor:N0}, Rovett {rovett:N0}, ratio {rovett / floor:F2}");
            }
            var ratios = all.ConvertAll(p => p.Rovett / p.Floor).Order().ToList();
            Console.WriteLine($"median {ratios[Pairs / 2]:F2} [{ratios[0]:F2} – {ratios[^1]:F2}]");
            return all;
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    /// <summary>Writes the newest rows of a history again, under new keys.</summary>
    sealed class Raw : IDisposable
    {
        readonly SqliteConnection connection;
        readonly List<object[]> entries = [], items = [];
        readonly SqliteCommand begin, commit, entry, item;
        long key, ordinal, id;

        public Raw(string file)
        {
            connection = new SqliteConnection($"Data Source={file};Pooling=False");
            connection.Open();
            // As the service sets it.
            Execute("PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA secure_delete=ON; PRAGMA cache_size=-16000");
            Read($"SELECT * FROM entry ORDER BY key DESC LIMIT {Items}", entries);
            Read($"SELECT i.* FROM log_item i JOIN (SELECT log, max(ordinal) o FROM log_item GROUP BY log) n ON n.log=i.log AND n.o=i.ordinal " +
                $"LIMIT {Items}", items);
            (key, ordinal) = ((long)entries[0][0], items.Max(i => (long)i[1]));
            begin = Prepared("BEGIN IMMEDIATE", 0);
            commit = Prepared("COMMIT", 0);
            entry = Prepared("INSERT INTO entry VALUES", entries[0].Length);
            item = Prepared("INSERT INTO log_item VALUES", items[0].Length);
        }

        public double Run(TimeSpan length)
        {
            long count = 0, start = Stopwatch.GetTimestamp();
            while (Stopwatch.GetElapsedTime(start) < length)
            {
                begin.ExecuteNonQuery();
                ordinal++;
                for (int i = 0; i < Items; i++)
                {
                    var id = (byte[])entries[i][3];
                    BitConverter.TryWriteBytes(id.AsSpan(8), ++this.id);
                    Insert(entry, entries[i], (0, ++key));
                    Insert(item, items[i], (1, ordinal), (2, key));
                }
                commit.ExecuteNonQuery();
                count += Items;
            }
            return count / Stopwatch.GetElapsedTime(start).TotalSeconds;
        }

        static void Insert(SqliteCommand command, object[] row, params ReadOnlySpan<(int Column, object Value)> instead)
        {
            for (int i = 0; i < row.Length; i++) command.Parameters[i].Value = row[i];
            foreach (var (column, value) in instead) command.Parameters[column].Value = value;
            command.ExecuteNonQuery();
        }

        SqliteCommand Prepared(string sql, int columns)
        {
            var command = connection.CreateCommand();
            var names = Enumerable.Range(0, columns).Select(i => $"$c{i}").ToList();
            command.CommandText = columns == 0 ? sql : $"{sql} ({string.Join(", ", names)})";
            foreach (var name in names) command.Parameters.AddWithValue(name, 0);
            command.Prepare();
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

        void Execute(string sql)
        {
            using var command = connection.CreateCommand();
            command.CommandText = sql;
            command.ExecuteNonQuery();
        }

        public void Dispose() => connection.Dispose();
    }
}
