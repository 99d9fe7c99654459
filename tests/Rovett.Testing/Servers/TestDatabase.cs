using System.Collections.Concurrent;
using Npgsql;
using Rovett.Storage.Postgres;

namespace Rovett.Testing.Servers;

/// <summary>A database for each service of a test, where the tests are run on PostgreSQL: <c>ROVETT_TEST_HOME=postgres</c>.</summary>
static class TestDatabase
{
    const string Model = "store1";

    static readonly Lazy<PostgresServer> Server = new(() =>
    {
        var server = new PostgresServer();
        AppDomain.CurrentDomain.ProcessExit += (_, _) => server.Dispose();
        PostgresHistory.Open(server.NewDatabase()).Dispose(); // with all tables, to be copied
        return server;
    });
    static readonly ConcurrentDictionary<string, string> ByFolder = [];
    static int made;

    /// <summary>Whether services are to be tested on PostgreSQL.</summary>
    public static bool IsUsed { get; } = Environment.GetEnvironmentVariable("ROVETT_TEST_HOME") is "postgres" or "nodes";

    /// <summary>Another node serves all spaces of each service of a test: <c>ROVETT_TEST_HOME=nodes</c>.</summary>
    public static bool HasNodes { get; } = Environment.GetEnvironmentVariable("ROVETT_TEST_HOME") == "nodes";

    /// <summary>The database in place of a data folder; null: the folder itself.</summary>
    public static string? For(string folder) => IsUsed ? ByFolder.GetOrAdd(folder, static _ => Copy()) : null;

    static string Copy()
    {
        var name = $"test{Interlocked.Increment(ref made)}";
        var server = Server.Value;
        string In(string database) => $"Host={server.Folder};Port={server.Port};Username=rovett;Database={database}";
        lock (Server) // one at a time can copy the model
        {
            using var connection = new NpgsqlConnection(In("postgres") + ";Pooling=false");
            connection.Open();
            using var create = new NpgsqlCommand($"CREATE DATABASE {name} TEMPLATE {Model}", connection);
            create.ExecuteNonQuery();
            using var life = new NpgsqlConnection(In(name) + ";Pooling=false");
            life.Open();
            using var anew = new NpgsqlCommand($"UPDATE store SET epoch='{Epoch.New()}'", life);
            anew.ExecuteNonQuery();
        }
        return In(name);
    }
}
