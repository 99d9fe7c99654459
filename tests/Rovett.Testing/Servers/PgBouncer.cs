using System.Diagnostics;
using Npgsql;

namespace Rovett.Testing.Servers;

/// <summary>A connection pooler before a PostgreSQL server.</summary>
/// <param name="server">The server.</param>
/// <param name="mode">What a client has to itself: a <c>session</c> or a <c>transaction</c>.</param>
public sealed class PgBouncer(PostgresServer server, string mode) : ChildServer
{
    /// <summary>How a database of the server is reached by it.</summary>
    public string Database(string name) => $"Host=127.0.0.1;Port={Port};Username=rovett;Database={name}";

    protected override ProcessStartInfo Program()
    {
        var file = Path.Combine(Folder, "pgbouncer.ini");
        File.WriteAllText(Path.Combine(Folder, "users"), "\"rovett\" \"\"\n");
        File.WriteAllText(file, $"""
            [databases]
            * = host=127.0.0.1 port={server.Port}
            [pgbouncer]
            listen_addr = 127.0.0.1
            listen_port = {Port}
            unix_socket_dir =
            auth_type = trust
            auth_file = {Path.Combine(Folder, "users")}
            pool_mode = {mode}
            ignore_startup_parameters = extra_float_digits
            """);
        if (Environment.UserName != "root") return new("pgbouncer", [file]);
        foreach (var path in new[] { Folder, file, Path.Combine(Folder, "users") }) File.SetUnixFileMode(path, (UnixFileMode)0b111_101_101);
        return new("runuser", ["-u", "postgres", "--", "pgbouncer", file]); // it refuses to run as root
    }

    protected override async Task<bool> IsReady()
    {
        try
        {
            await using var connection = new NpgsqlConnection(Database("postgres") + ";Pooling=false");
            await connection.OpenAsync();
            return true;
        }
        catch (NpgsqlException)
        {
            return false;
        }
    }
}
