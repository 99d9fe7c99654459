using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Npgsql;
using Rovett.Service.Options;
using Rovett.Storage;
using Rovett.Storage.Homes;
using Rovett.Storage.Sqlite;

namespace Rovett.Cli.Doctor;

/// <summary>Examines the machine and the store of a service, whether it runs or not. Changes nothing.</summary>
/// <param name="options">Its configuration.</param>
/// <param name="now">The time.</param>
/// <param name="isQuick">Leaves the whole store out.</param>
sealed class Inside(RovettOptions options, DateTimeOffset now, bool isQuick)
{
    const long Gibibyte = 1L << 30;
    static readonly TimeSpan SlowSync = TimeSpan.FromMilliseconds(20), ClockMayDiffer = TimeSpan.FromSeconds(2),
        RenewWithin = TimeSpan.FromDays(14);
    static readonly string[] OnNetwork = ["nfs", "nfs4", "cifs", "smb3", "9p", "fuse.sshfs", "glusterfs", "ceph"];

    /// <summary>Examines everything.</summary>
    public IEnumerable<Finding> Examine()
    {
        if (options.Database is { } database)
        {
            foreach (var finding in Database(database)) yield return finding;
        }
        else
        {
            foreach (var finding in Folder()) yield return finding;
        }
        yield return OpenFiles();
        yield return Backlog();
        yield return Port();
        yield return Exposed();
        if (options.Certificate is not null) yield return OwnCertificate();
        if (options.ClusterSecretFile is { } secret) yield return SecretFile("cluster-secret", secret);
        if (options.CertificateKey is { } key) yield return SecretFile("certificate-key", key);
    }

    IEnumerable<Finding> Folder()
    {
        var folder = Path.GetFullPath(options.Data);
        if (!Directory.Exists(folder))
        {
            yield return Finding.Fault("data-folder", $"The data folder {folder} is not there.",
                "Name the folder of the service with --data or --config; on the first start, let the service make it.");
            yield break;
        }
        if (Writable(folder) is { } why)
        {
            yield return Finding.Fault("data-folder", $"The data folder {folder} can't be written by {Environment.UserName}: {why}",
                $"Run this as the service's own user, or give the folder to that user: chown -R rovett {folder}");
            yield break;
        }
        var mode = File.GetUnixFileMode(folder);
        yield return (mode & (UnixFileMode.OtherRead | UnixFileMode.OtherWrite | UnixFileMode.OtherExecute)) == 0
            ? Finding.Fine("data-folder", $"{folder} is there, and its owner's alone.")
            : Finding.Warning("data-folder", $"Everybody on this machine can look into the data folder {folder}.", $"chmod 700 {folder}");
        yield return Disk(folder);
        yield return FileSystem(folder);
        yield return Sync(folder);
        yield return isQuick ? Finding.Skipped("store", "Left out (--quick).") : Store(folder);
        yield return Backups();
    }

    Finding Backups()
    {
        if (options.Backups is not { } path) return Finding.Skipped("backups", "The service makes none ('backups' names no folder).");
        var folder = new BackupFolder(path);
        if (Directory.Exists(folder.Path) && Writable(folder.Path) is { } why)
        {
            return Finding.Fault("backups", $"No backups can be made in {folder.Path}: {why}",
                "Run this as the service's own user, or give the folder to that user.");
        }
        if (folder.All() is not [.., var newest])
        {
            return Finding.Warning("backups", $"There is no backup in {folder.Path} yet.",
                "The first is made soon after a start; the log says why if it is not.");
        }
        var what = $"The newest backup is {newest.Path}.";
        return now - newest.Time > options.BackupEverySpan * 2
            ? Finding.Warning("backups", $"{what} They are to be made every {options.BackupEvery}.",
                "Look in the log for why none was made since: no space, no right to the folder, or the service was stopped.")
            : Finding.Fine("backups", what);
    }

    static string? Writable(string folder)
    {
        var file = Path.Combine(folder, $".doctor-{Environment.ProcessId}");
        try
        {
            File.WriteAllText(file, "");
            File.Delete(file);
            return null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return error.Message;
        }
    }

    static Finding Disk(string folder)
    {
        var drive = new DriveInfo(folder);
        double part = (double)drive.AvailableFreeSpace / Math.Max(1, drive.TotalSize);
        var left = string.Create(CultureInfo.InvariantCulture, $"{drive.AvailableFreeSpace / (double)Gibibyte:0.0} GiB free " +
            $"({part:P0}) on the disk of {folder}.");
        return drive.AvailableFreeSpace < Gibibyte / 4
            ? Finding.Fault("disk-space", left, "Free some space at once: when none is left, nothing more is stored and sends get 503.")
            : drive.AvailableFreeSpace < 2 * Gibibyte || part < 0.05
            ? Finding.Warning("disk-space", left, "Free some space, move the folder to a larger disk, or keep less (keepFor, keepCount).")
            : Finding.Fine("disk-space", left);
    }

    static Finding FileSystem(string folder)
    {
        var (at, kind) = ("", "");
        foreach (var line in File.ReadLines("/proc/self/mounts"))
        {
            var parts = line.Split(' ');
            var mount = parts[1].Replace("\\040", " ", StringComparison.Ordinal);
            if ((folder == mount || folder.StartsWith(mount.TrimEnd('/') + "/", StringComparison.Ordinal))
                && mount.Length >= at.Length) (at, kind) = (mount, parts[2]);
        }
        return OnNetwork.Contains(kind)
            ? Finding.Fault("file-system", $"The data folder lies on a network file system ({kind}), which can't keep what SQLite asks " +
                "for: the store may be damaged.",
                "Move the folder to a disk of this machine, or store everything in PostgreSQL: rovett store move")
            : kind is "tmpfs" or "ramfs"
            ? Finding.Fault("file-system", $"The data folder lies in memory ({kind}): everything is lost with the machine.",
                "Move the folder to a disk.")
            : Finding.Fine("file-system", $"The data folder lies on a local disk ({(kind.Length == 0 ? "unknown" : kind)}).");
    }

    /// <summary>How long the disk takes to keep something, as every commit asks it to.</summary>
    static Finding Sync(string folder)
    {
        const int times = 8;
        var file = Path.Combine(folder, $".doctor-{Environment.ProcessId}");
        var took = new List<TimeSpan>();
        try
        {
            using var stream = new FileStream(file, FileMode.CreateNew, FileAccess.Write);
            for (int i = 0; i < times; i++)
            {
                stream.Write(new byte[4096]);
                long began = Stopwatch.GetTimestamp();
                stream.Flush(flushToDisk: true);
                took.Add(Stopwatch.GetElapsedTime(began));
            }
        }
        finally
        {
            File.Delete(file);
        }
        var median = took.Order().ElementAt(times / 2);
        var what = string.Create(CultureInfo.InvariantCulture, $"The disk takes {median.TotalMilliseconds:0.0} ms to keep a write.");
        return median > SlowSync ? Finding.Warning("disk-sync", what + " Each send waits for that, together with those beside it.",
            "Take a disk with a cache that survives a power cut, or a local one in place of a remote one.") : Finding.Fine("disk-sync",
                what);
    }

    static Finding Store(string folder)
    {
        if (!File.Exists(Path.Combine(folder, "history.db"))) return Finding.Skipped("store", "Nothing is stored in the data folder yet.");
        try
        {
            var wrong = DataFolderBackup.Damage(folder);
            return wrong.Count == 0 ? Finding.Fine("store", "The store is undamaged.")
                : Finding.Fault("store", $"The store is damaged: {wrong[0]}{(wrong.Count > 1 ? $" ({wrong.Count - 1} more)" : "")}",
                "Stop the service, keep a copy of the folder, and restore the last backup: rovett store restore. 'rovett store check' " +
                    "lists everything.");
        }
        catch (StoreException error)
        {
            return Finding.Fault("store", error.Message, "See docs/operating.md.");
        }
        catch (System.Data.Common.DbException error)
        {
            return Finding.Fault("store", $"The store can't be read: {error.Message}", "Stop the service, keep a copy of the folder, " +
                "and restore the last backup: rovett store restore.");
        }
    }

    IEnumerable<Finding> Database(string database)
    {
        Finding reached;
        TimeSpan? apart = null;
        try
        {
            using var connection = new NpgsqlConnection(new NpgsqlConnectionStringBuilder(database)
            {
                Pooling = false,
                Timeout = 5
            }.ConnectionString);
            connection.Open();
            PostgresHome.RequireLasting(database);
            using var ask = new NpgsqlCommand("SELECT clock_timestamp(), current_setting('max_connections')::int, " +
                "(SELECT count(*) FROM pg_stat_activity), current_setting('synchronous_commit'), current_setting('fsync')", connection);
            var began = DateTimeOffset.UtcNow;
            using var row = ask.ExecuteReader();
            row.Read();
            apart = (row.GetFieldValue<DateTimeOffset>(0) - began).Duration();
            int most = row.GetInt32(1), used = (int)row.GetInt64(2);
            reached = connection.PostgreSqlVersion.Major < 15
                ? Finding.Fault("database", $"The server is PostgreSQL {connection.PostgreSqlVersion.Major}.",
                    "Rovett needs PostgreSQL 15 or newer.")
                : row.GetString(3) == "off" || row.GetString(4) == "off"
                ? Finding.Fault("database", "The server answers before what it stores is on disk (synchronous_commit or fsync is off): " +
                    "a power cut loses notifications that were answered.",
                    "Set both to on in postgresql.conf.")
                : most - used < 20
                ? Finding.Warning("database", $"{used} of {most} connections of the server are in use; a node opens up to 20.",
                    "Raise max_connections.")
                : Finding.Fine("database", $"PostgreSQL {connection.PostgreSqlVersion} is reached; {used} of {most} connections are in " +
                    "use.");
        }
        catch (Exception error) when (error is NpgsqlException or StoreException or SocketException or TimeoutException)
        {
            reached = Finding.Fault("database", $"The database can't be used: {error.Message}",
                "Check the connection string, that the server runs and takes connections from this machine, and the user's rights.");
        }
        yield return reached;
        if (apart is { } by) yield return Clock("the database's", by);
    }

    /// <summary>Compares this machine's clock with another.</summary>
    public static Finding Clock(string whose, TimeSpan by) => by > ClockMayDiffer
        ? Finding.Fault("clock", $"This machine's clock and {whose} differ by {by.TotalSeconds:0.0} s.",
            "Keep both in step by NTP (timedatectl set-ntp true): tokens are refused before their time, and a node takes no spaces.")
        : Finding.Fine("clock", string.Create(CultureInfo.InvariantCulture, $"This machine's clock and {whose} differ by " +
            $"{by.TotalSeconds:0.0} s at most."));

    /// <summary>The process that has the data folder, if it runs.</summary>
    int? Running()
    {
        var file = Path.Combine(options.Data, "serve.pid");
        if (!File.Exists(file) || !int.TryParse(File.ReadAllText(file).Trim(), CultureInfo.InvariantCulture, out int id)) return null;
        var command = $"/proc/{id}/cmdline"; // the number may be another's by now
        return File.Exists(command) && File.ReadAllText(command).Contains("rovett", StringComparison.OrdinalIgnoreCase) ? id : null;
    }

    Finding OpenFiles()
    {
        var running = options.Database is null ? Running() : null;
        if (Service.Limits.OpenFiles.Most(running) is not { } may) return Finding.Skipped("open-files",
            "The limits of the service's process can't be read; run this as " +
            "its user.");
        var whose = running is null ? "This shell may" : "The service may";
        var what = $"{whose} have {may} files open";
        return may >= 4096 ? Finding.Fine("open-files", what + ".")
            : Finding.Warning("open-files", $"{what}: about {Math.Max(may / 2, may - 256)} connections, whatever maxConnections says.",
                "Raise the limit: LimitNOFILE=1048576 in its systemd unit, or ulimit -n.");
    }

    static Finding Backlog()
    {
        const string file = "/proc/sys/net/core/somaxconn";
        if (!File.Exists(file) || !int.TryParse(File.ReadAllText(file).Trim(), CultureInfo.InvariantCulture, out int most))
            return Finding.Skipped("listen-backlog", "The kernel does not tell how many connections may wait.");
        return most < 1024 ? Finding.Warning("listen-backlog", $"The kernel lets {most} connections wait to be accepted; when all come " +
            "back at once, more are refused.",
            "sysctl -w net.core.somaxconn=4096") : Finding.Fine("listen-backlog", $"{most} connections may wait to be accepted.");
    }

    Finding Port()
    {
        if (options.Port == 0 || !IPAddress.TryParse(options.Address, out var address)) return Finding.Skipped("port",
            "The service takes any free port.");
        var there = Array.Exists(IPGlobalProperties.GetIPGlobalProperties().GetActiveTcpListeners(),
            l => l.Port == options.Port && (l.Address.Equals(address) || l.Address.Equals(IPAddress.Any)
                || l.Address.Equals(IPAddress.IPv6Any) || address.Equals(IPAddress.Any)));
        bool runs = options.Database is not null || Running() is not null;
        if (there == runs) return Finding.Fine("port", there ? $"Something listens on {options.Address}:{options.Port}."
            : $"Port {options.Port} is free; the service does not run.");
        return there ? Finding.Fault("port", $"Port {options.Port} of {options.Address} is taken, and not by a service on this data " +
            "folder.",
            "Stop what listens there (ss -ltnp shows it), or choose another port.")
            : options.Database is not null ? Finding.Skipped("port", $"Nothing listens on {options.Address}:{options.Port}: the " +
                "service does not run here.")
            : Finding.Fault("port", $"The service runs and does not listen on {options.Address}:{options.Port}.",
                "It was started with other settings: give this command the same, or restart it.");
    }

    Finding Exposed() => options.Certificate is null && IPAddress.TryParse(options.Address, out var address)
        && !IPAddress.IsLoopback(address)
        ? Finding.Warning("encryption", $"The service listens on {options.Address} without TLS: tokens and notifications cross the " +
            "network readable.",
            "Give it a certificate, or have it listen on 127.0.0.1 behind a proxy with TLS.")
        : Finding.Fine("encryption", options.Certificate is null ? "The service listens on this machine only." : "The service speaks TLS.");

    Finding OwnCertificate()
    {
        try
        {
            using var certificate = X509CertificateLoader.LoadCertificateFromFile(options.Certificate!);
            return Certificate("certificate", certificate, now);
        }
        catch (Exception error) when (error is CryptographicException or IOException or UnauthorizedAccessException)
        {
            return Finding.Fault("certificate", $"The certificate can't be read: {error.Message}", "Give a PEM file that the service's " +
                "user may read.");
        }
    }

    /// <summary>Looks at when a certificate ends.</summary>
    public static Finding Certificate(string check, X509Certificate2 certificate, DateTimeOffset now)
    {
        var until = string.Create(CultureInfo.InvariantCulture, $"{certificate.NotAfter.ToUniversalTime():yyyy-MM-dd HH:mm} UTC");
        return now > certificate.NotAfter ? Finding.Fault(check, $"The certificate ended on {until}: nobody can connect.",
            "Renew it; the service takes up a new file within half a minute.")
            : now < certificate.NotBefore ? Finding.Fault(check, "The certificate is not valid yet.",
                "Check the clock, or wait until it is.")
            : certificate.NotAfter - now < RenewWithin ? Finding.Warning(check, $"The certificate ends on {until}.",
                "Renew it now, and find out why that did not happen by itself.")
            : Finding.Fine(check, $"The certificate holds until {until}.");
    }

    static Finding SecretFile(string check, string file)
    {
        if (!File.Exists(file)) return Finding.Fault(check, $"{file} is not there.", "Name the right file, or create it.");
        var mode = File.GetUnixFileMode(file);
        return (mode & (UnixFileMode.OtherRead | UnixFileMode.GroupWrite | UnixFileMode.OtherWrite)) == 0 ? Finding.Fine(check,
            $"{file} is readable by its owner or group alone.")
            : Finding.Warning(check, $"Everybody on this machine can read {file}, or others can change it.", $"chmod 640 {file}");
    }
}
