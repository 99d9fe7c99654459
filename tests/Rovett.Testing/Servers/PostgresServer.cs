using System.Diagnostics;
using Npgsql;
using Shouldly;

namespace Rovett.Testing.Servers;

/// <summary>A PostgreSQL server of its own, in a folder of its own, on a socket of its own.</summary>
public sealed class PostgresServer : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-postgres-").FullName;
    readonly string programs;
    int databases;

    /// <summary>The port on loopback that it listens on, beside its socket.</summary>
    public int Port { get; } = FreePort.Next();

    readonly string settings;

    public PostgresServer() : this(null, Quick)
    {
    }

    PostgresServer(PostgresServer? primary, string settings)
    {
        this.settings = settings;
        programs = Directory.GetDirectories("/usr/lib/postgresql").OrderDescending().Select(d => Path.Combine(d, "bin"))
            .First(Directory.Exists);
        // The server refuses to run as root.
        if (Environment.UserName == "root") Run("chown", "postgres", folder).ShouldBe(0);
        var data = Path.Combine(folder, "data");
        if (primary is null) AsServer("initdb", "-D", data, "-A", "trust", "-U", "rovett", "--no-sync").ShouldBe(0);
        else AsServer("pg_basebackup", "-D", data, "-R", "-h", primary.folder, "-p", $"{primary.Port}", "-U", "rovett", "-c",
            "fast").ShouldBe(0);
        Start();
    }

    // The data is worthless after the test, so nothing waits for the disk.
    const string Quick = "-c fsync=off";

    /// <summary>One that waits for the disk, and whose commits take at least so long; for measuring.</summary>
    public static PostgresServer Lasting(TimeSpan commits = default) =>
        new(null, $"-c fsync=on -c commit_delay={(int)commits.TotalMicroseconds} -c commit_siblings=0");

    /// <summary>A second server that follows this one.</summary>
    /// <param name="isSynchronous">From now on each commit here waits until it is there too.</param>
    public PostgresServer Standby(bool isSynchronous = true)
    {
        var standby = new PostgresServer(this, settings);
        if (isSynchronous) Set("synchronous_standby_names", "*");
        return standby;
    }

    /// <summary>A standby that gets nothing any more, as if the network to its primary was cut.</summary>
    public void StopFollowing() => Set("primary_conninfo", "");

    void Set(string name, string value)
    {
        using var connection = new NpgsqlConnection($"Host={folder};Port={Port};Username=rovett;Database=postgres;Pooling=false");
        connection.Open();
        foreach (var sql in (string[])[$"ALTER SYSTEM SET {name} = '{value}'", "SELECT pg_reload_conf()"])
        {
            using var command = new NpgsqlCommand(sql, connection);
            command.ExecuteNonQuery();
        }
    }

    /// <summary>Makes a primary of a standby.</summary>
    public void Promote() => AsServer("pg_ctl", "-D", Path.Combine(folder, "data"), "-w", "-s", "promote").ShouldBe(0);

    /// <summary>Where its socket lies.</summary>
    public string Folder => folder;

    public void Start() =>
        AsServer("pg_ctl", "-D", Path.Combine(folder, "data"), "-w", "-s", "-l", Path.Combine(folder, "log"), "-o",
        $"-c listen_addresses=127.0.0.1 -c port={Port} {settings} -c max_connections=400 -c autovacuum=off -c checkpoint_timeout=1d -c " +
            $"max_wal_size=20GB -k {folder}", "start").ShouldBe(0);

    /// <summary>Stops it as a crash would: connections are cut.</summary>
    public void Crash() => AsServer("pg_ctl", "-D", Path.Combine(folder, "data"), "-w", "-s", "-m", "immediate", "stop").ShouldBe(0);

    public string NewDatabase()
    {
        var name = $"store{++databases}";
        using var connection = new NpgsqlConnection($"Host={folder};Port={Port};Username=rovett;Database=postgres;Pooling=false");
        connection.Open();
        using var command = new NpgsqlCommand($"CREATE DATABASE {name}", connection);
        command.ExecuteNonQuery();
        return $"Host={folder};Port={Port};Username=rovett;Database={name}";
    }

    int AsServer(string program, params string[] arguments)
    {
        string[] command = [Path.Combine(programs, program), .. arguments];
        return Environment.UserName == "root" ? Run("runuser", ["-u", "postgres", "--", .. command]) : Run(command[0], command[1..]);
    }

    int Run(string program, params string[] arguments)
    {
        using var process =
            Process.Start(new ProcessStartInfo(program, arguments) { WorkingDirectory = folder, RedirectStandardOutput = true })!;
        process.WaitForExit();
        return process.ExitCode;
    }

    public void Dispose()
    {
        AsServer("pg_ctl", "-D", Path.Combine(folder, "data"), "-w", "-s", "-m", "immediate", "stop");
        Directory.Delete(folder, recursive: true);
    }
}
