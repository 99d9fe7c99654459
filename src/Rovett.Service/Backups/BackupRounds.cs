using System.Globalization;
using Rovett.Service.Audit;
using Rovett.Service.Diagnostics;
using Rovett.Service.Options;
using Rovett.Storage;
using Rovett.Storage.Homes;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Backups;

/// <summary>Backs up the data folder as often as the options say, beside the work of the service. When the next is due is told by the
/// backups that are there: a restart changes nothing.</summary>
public sealed class BackupRounds : IDisposable
{
    static readonly TimeSpan Look = TimeSpan.FromSeconds(20), TryAgainAfter = TimeSpan.FromMinutes(5);

    readonly RovettOptions options;
    readonly BackupFolder? folder;
    readonly AuditTrail audit;
    readonly TimeProvider clock;
    readonly ILogger<BackupRounds> log;
    readonly Repeating? rounds;
    readonly Lock gate = new();
    DateTimeOffset triedAt;
    long newest, failures;
    bool isOne;

    /// <summary>Begins, unless the options ask for none.</summary>
    public BackupRounds(RovettOptions options, IStoreHome home, AuditTrail audit, TimeProvider clock, Faults faults,
        ILogger<BackupRounds> log)
    {
        (this.options, this.audit, this.clock, this.log) = (options, audit, clock, log);
        if (home is not DataFolder data) return;
        if (data.IsUpgraded)
        {
            log.LogInformation("The store was of an earlier version and is brought to the present schema; {Backup}",
                data.BackupBeforeUpgrade is { } before ? $"as it was before, it is in {before.Path}"
                : "no backup was made before, because 'backups' names no folder");
        }
        if (options.Backups is not { } path) return;
        folder = new BackupFolder(path);
        var last = folder.All().LastOrDefault();
        newest = (last?.Time ?? clock.GetUtcNow()).UtcTicks;
        isOne = last is not null;
        rounds = new Repeating("backup", Look, clock, faults, MakeIfDue);
    }

    /// <summary>How long ago the newest backup was begun, or the service while there is none; null: none are asked for.</summary>
    public TimeSpan? Age => folder is null ? null : clock.GetUtcNow() - new DateTimeOffset(Interlocked.Read(ref newest), TimeSpan.Zero);

    /// <summary>How often they are made; null: none are asked for.</summary>
    public TimeSpan? Every => folder is null ? null : options.BackupEverySpan;

    /// <summary>How many attempts have failed since the start.</summary>
    public long Failures => Interlocked.Read(ref failures);

    /// <summary>Makes the next one if its time has come, on a thread of its own.</summary>
    public Task MakeIfDue() => Task.Factory.StartNew(Make, CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);

    void Make()
    {
        lock (gate) MakeIn(folder!);
    }

    void MakeIn(BackupFolder folder)
    {
        var now = clock.GetUtcNow();
        // A clock that was set back does not stop them.
        if (isOne && Age is { } age && age >= TimeSpan.Zero && age < options.BackupEverySpan) return;
        if (now - triedAt < TryAgainAfter && now >= triedAt) return;
        triedAt = now;
        try
        {
            long began = clock.GetTimestamp();
            var made = folder.Make(options.Data, now);
            Interlocked.Exchange(ref newest, made.Time.UtcTicks);
            isOne = true;
            triedAt = default;
            long bytes = new DirectoryInfo(made.Path).EnumerateFiles("*", SearchOption.AllDirectories).Sum(f => f.Length);
            log.LogInformation("Backed up to {Folder}: {MiB:0.0} MiB in {Seconds:0.0} s, checked", made.Path, bytes / 1048576.0,
                clock.GetElapsedTime(began).TotalSeconds);
            audit.Note("main", "service", "backup.made", Path.GetFileName(made.Path), json => json.WriteNumber("bytes", bytes));
            folder.Trim(options.BackupsKept);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            log.LogError("Old backups in {Folder} can't be deleted: {Why} Check the folder's owner; it is tried again after the next " +
                "backup",
                folder.Path, error.Message);
        }
        catch (StoreException error)
        {
            Interlocked.Increment(ref failures);
            log.LogError("{Why} It is tried again in {Minutes} minutes", error.Message,
                TryAgainAfter.TotalMinutes.ToString(CultureInfo.InvariantCulture));
        }
    }

    /// <inheritdoc/>
    public void Dispose() => rounds?.Dispose();
}
