using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using Npgsql;
using Rovett.Client;
using Rovett.Service.Intakes.Outbox;

namespace Rovett.Cli.Demo;

/// <summary>The planning office of the ferries: a backend with a PostgreSQL of its own, which writes each change together with its event
/// in one transaction.</summary>
sealed class PlanningOffice : IAsyncDisposable
{
    const string Owner = "postgres"; // the server refuses to run as root
    static readonly Outbox Outbox = new();
    readonly DirectoryInfo folder;
    readonly string programs;

    PlanningOffice(DirectoryInfo folder, string programs, int port) => (this.folder, this.programs, Port) = (folder, programs, port);

    /// <summary>The port of its database, on loopback.</summary>
    public int Port { get; }

    string Database => $"Host=127.0.0.1;Port={Port};Username=rovett;Database=planning";

    /// <summary>Starts it.</summary>
    /// <returns>Null: no PostgreSQL is installed here.</returns>
    public static async Task<PlanningOffice?> Start()
    {
        const string versions = "/usr/lib/postgresql";
        var programs = Directory.Exists(versions)
            ? Directory.GetDirectories(versions).OrderDescending().Select(d => Path.Combine(d, "bin")).FirstOrDefault(Directory.Exists)
            : null;
        if (programs is null) return null;
        var office = new PlanningOffice(Directory.CreateTempSubdirectory("rovett-planning-"), programs, FreePort());
        if (Environment.UserName == "root") await office.Run("chown", [Owner, office.folder.FullName]);
        await office.AsOwner("initdb", "-D", office.Data, "-A", "trust", "-U", "rovett", "--no-sync");
        await office.AsOwner("pg_ctl", "-D", office.Data, "-w", "-s", "-l", Path.Combine(office.folder.FullName, "log"), "-o",
            $"-c listen_addresses=127.0.0.1 -c port={office.Port} -k {office.folder.FullName}", "start");
        office.StopWithThisProcess();
        await Sql(office.Database.Replace("Database=planning", "Database=postgres", StringComparison.Ordinal), "CREATE DATABASE planning");
        await Sql(office.Database, OutboxSql.Create(OutboxKind.DefaultTable, null) +
            "CREATE TABLE check_plan (id bigint, vessel text, due timestamptz DEFAULT now())");
        return office;
    }

    string Data => Path.Combine(folder.FullName, "data");

    /// <summary>The server would outlive a demo that is killed.</summary>
    void StopWithThisProcess()
    {
        var stop = string.Join(' ', Command("pg_ctl", "-D", Data, "-s", "-m", "immediate", "stop"));
        using var watch = Process.Start("bash", ["-c",
            $"exec <&- >/dev/null 2>&1; tail --pid={Environment.ProcessId} -f /dev/null; {stop}; rm -rf {folder.FullName}"]);
    }

    /// <summary>Notes that a check is due, with the event that tells of it.</summary>
    /// <param name="found">The event.</param>
    /// <param name="isCommitted">Whether the transaction is committed; otherwise it is rolled back, and nothing has happened.</param>
    public async Task Note(BackendEvent found, bool isCommitted = true)
    {
        await using var connection = new NpgsqlConnection(Database);
        await connection.OpenAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await using (var change = new NpgsqlCommand("INSERT INTO check_plan (id, vessel) VALUES ($1, $2)", connection, transaction))
        {
            change.Parameters.Add(new NpgsqlParameter { Value = (long)found.Data!["id"]! });
            change.Parameters.Add(new NpgsqlParameter { Value = (string)found.Data["vessel"]!["id"]! });
            await change.ExecuteNonQueryAsync();
        }
        await Outbox.Add(connection, transaction, found);
        if (isCommitted) await transaction.CommitAsync();
    }

    static async Task Sql(string database, string sql)
    {
        await using var connection = new NpgsqlConnection(database + ";Pooling=false");
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand(sql, connection);
        await command.ExecuteNonQueryAsync();
    }

    static int FreePort()
    {
        using var socket = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
        socket.Bind(new IPEndPoint(IPAddress.Loopback, 0));
        return ((IPEndPoint)socket.LocalEndPoint!).Port;
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
        await AsOwner("pg_ctl", "-D", Data, "-w", "-s", "-m", "immediate", "stop");
        folder.Delete(recursive: true);
    }
}
