using System.Diagnostics;
using System.Globalization;
using System.Text;
using Npgsql;
using Rovett.Client;
using Rovett.Service.Intakes.Outbox;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Faults.Intakes;

/// <summary>The backend is killed at random instants around its transactions: there is a notification for each change that was committed,
/// and for no other. <c>ROVETT_BACKEND_KILLS</c> makes a long run of it.</summary>
public sealed class OutboxBackendTests
{
    const string Rules = """
        rules:
          - { name: tell, event: check.due, to: ["user:mara"], notification: { title: "{{ data.n }}" } }
        """;

    static readonly int Kills = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_BACKEND_KILLS"), out int kills) ? kills : 12;

    /// <summary>One change after the other, each with its event in one transaction; every fifth is rolled back.</summary>
    const string Backend = """
        \set n `date +%s%N`
        BEGIN;
        INSERT INTO change (n) VALUES (:n);
        INSERT INTO rovett_outbox (event) VALUES (json_build_object('type', 'check.due', 'source', '/planning/1',
          'data', json_build_object('n', :n::text)));
        SELECT CASE WHEN random() < 0.2 THEN 'ROLLBACK' ELSE 'COMMIT' END AS how \gset
        :how;
        """;

    [Fact]
    public async Task There_is_a_notification_for_each_change_that_was_committed_and_for_no_other()
    {
        using var server = new PostgresServer();
        var database = server.NewDatabase();
        await Sql(database, OutboxSql.Create(OutboxKind.DefaultTable, null) + "CREATE TABLE change (n bigint PRIMARY KEY);");
        var folder = Directory.CreateTempSubdirectory("rovett-backend-").FullName;
        var script = Path.Combine(folder, "backend.sql");
        await File.WriteAllTextAsync(script, string.Concat(Enumerable.Repeat(Backend + "\n", 2000)));
        var intakes = Path.Combine(folder, "intakes.yaml");
        var name = new NpgsqlConnectionStringBuilder(database).Database;
        await File.WriteAllTextAsync(intakes,
            $"intakes: [{{ name: planning, outbox: {{ host: 127.0.0.1, port: {server.Port}, database: {name}, user: rovett }} }}]");
        try
        {
            using var service = await ServiceProcess.Start(folder, ["--intakes", intakes]);
            var (key, secret) = ((string)service.Ready["credentials"]!["adminKey"]!,
                (string)service.Ready["credentials"]!["tokenSigningSecret"]!);
            using (var loading = new RovettClient(service.Url, key))
            {
                await loading.Call(HttpMethod.Put, "/v1/rules", () => new StringContent(Rules, Encoding.UTF8, "application/yaml"));
            }
            int seed = Environment.TickCount;
            var random = new Random(seed);
            for (int kill = 0; kill < Kills; kill++)
            {
                long before = await Count(database);
                using var backend = Process.Start(new ProcessStartInfo("psql",
                    ["-h", server.Folder, "-p", $"{server.Port}", "-U", "rovett", "-d", name!, "-q", "-f", script])
                { RedirectStandardOutput = true, RedirectStandardError = true })!;
                await Eventually.Holds(() => Count(database), n => n > before, "the backend works");
                await Task.Delay(random.Next(0, 40)); // the instant of the kill is what is tested
                backend.Kill();
                await backend.WaitForExitAsync();
            }
            var committed = await Numbers(database);
            using var client = new RovettClient(service.Url, TestTokens.Make(secret, "mara", []));
            var told = await Eventually.Holds(client.Titles, t => t.Count >= committed.Count, "all are told", 60);
            told.Select(t => long.Parse(t, CultureInfo.InvariantCulture)).ShouldBe(committed, $"seed {seed}");
            committed.Count.ShouldBeGreaterThan(Kills);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    static async Task Sql(string database, string sql)
    {
        await using var connection = new NpgsqlConnection(database);
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand(sql, connection);
        await command.ExecuteNonQueryAsync();
    }

    static async Task<long> Count(string database) => (await Numbers(database)).Count;

    static async Task<List<long>> Numbers(string database)
    {
        await using var connection = new NpgsqlConnection(database);
        await connection.OpenAsync();
        await using var ask = new NpgsqlCommand("SELECT n FROM change ORDER BY n", connection);
        await using var reader = await ask.ExecuteReaderAsync();
        var found = new List<long>();
        while (await reader.ReadAsync()) found.Add(reader.GetInt64(0));
        return found;
    }
}
