using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using Npgsql;

namespace Rovett.Cli.Demo;

/// <summary>A PostgreSQL server of a demo's own, on loopback, that ends with this process.</summary>
sealed class DemoDatabase : IAsyncDisposable
{
    const string Owner = "postgres"; // the server refuses to run as root
    readonly DirectoryInfo folder;
    readonly string programs;

    DemoDatabase(DirectoryInfo folder, string programs, int port) => (this.folder, this.programs, Port) = (folder, programs, port);

    /// <summary>Its port.</summary>
    public int Port { get; }

    /// <summary>The connection string of a database of it.</summary>
    public string Connection(string database) => $"Host=127.0.0.1;Port={Port};Username=rovett;Database={database}";

    /// <summary>Starts it.</summary>
    /// <param name="what">What it is for: a part of its folder's name.</param>
    /// <returns>Null: no PostgreSQL is installed here.</returns>
    public static async Task<DemoDatabase?> Start(string what)
    {
        const string versions = "/usr/lib/postgresql";
        var programs = Directory.Exists(versions)
            ? Directory.GetDirectories(versions).OrderDescending().Select(d => Path.Combine(d, "bin")).FirstOrDefault(Directory.Exists)
            : null;
        if (programs is null) return null;
        var server = new DemoDatabase(Directory.CreateTempSubdirectory($"rovett-{what}-"), programs, FreePort());
        if (Environment.UserName == "root") await server.Run("chown", [Owner, server.folder.FullName]);
        await server.AsOwner("initdb", "-D", server.Data, "-A", "trust", "-U", "rovett", "--no-sync");
        await server.Begin();
        server.StopWithThisProcess();
        return server;
    }

    /// <summary>Starts the server, or starts it again.</summary>
    public Task Begin() => AsOwner("pg_ctl", "-D", Data, "-w", "-s", "-l", Path.Combine(folder.FullName, "log"), "-o",
        $"-c listen_addresses=127.0.0.1 -c port={Port} -k {folder.FullName}", "start");

    /// <summary>Stops the server as a crash would.</summary>
    public Task Crash() => AsOwner("pg_ctl", "-D", Data, "-w", "-s", "-m", "immediate", "stop");

    /// <summary>Makes a database.</summary>
    public Task Create(string database) => Sql("postgres", $"CREATE DATABASE {database}");

    /// <summary>Carries a statement out.</summary>
    public async Task Sql(string database, string sql)
    {
        await using var connection = new NpgsqlConnection(Connection(database) + ";Pooling=false");
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand(sql, connection);
        await command.ExecuteNonQueryAsync();
    }

    /// <summary>A port of loopback that nobody listens on.</summary>
    public static int FreePort()
    {
        using var socket = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
        socket.Bind(new IPEndPoint(IPAddress.Loopback, 0));
        return ((IPEndPoint)socket.LocalEndPoint!).Port;
    }

    string Data => Path.Combine(folder.FullName, "data");

    /// <summary>The server would outlive a demo that is killed.</summary>
    void StopWithThisProcess()
    {
        var stop = string.Join(' ', Command("pg_ctl", "-D", Data, "-s", "-m", "immediate", "stop"));
        using var watch = Process.Start("bash", ["-c",
            $"exec <&- >/dev/null 2>&1; tail --pid={Environment.ProcessId} -f /dev/null; {stop}; rm -rf {folder.FullName}"]);
    }

    Task AsOwner(string program, params string[] arguments)
    {
        var command = Command(program, arguments);
        return Run(command[0], command[1..]);
    }

    string[] Command(string program, params string[] arguments)
    {
        string[] command = [Path.Combine(programs, program), .. arguments];
        return Environment.UserName == "root" ? ["runuser", "-u", Owner, "--", .. command] : command;
    }

    async Task Run(string program, string[] arguments)
    {
        using var process = Process.Start(new ProcessStartInfo(program, arguments)
        { WorkingDirectory = folder.FullName, RedirectStandardOutput = true, RedirectStandardError = true })!;
        // The server keeps what it was given to write to: only the end of the program is waited for.
        await process.WaitForExitAsync();
        if (process.ExitCode != 0) throw new InvalidOperationException($"{program} {arguments[0]} ended with {process.ExitCode}");
    }

    public async ValueTask DisposeAsync()
    {
        NpgsqlConnection.ClearAllPools();
        await Crash();
        folder.Delete(recursive: true);
    }
}
