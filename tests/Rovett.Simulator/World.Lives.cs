using Rovett.Storage.Sqlite;

namespace Rovett.Simulator;

/// <summary>The service's lives: restarts, crashes, backups, restores.</summary>
public sealed partial class World
{
    void Restart()
    {
        foreach (var device in devices)
        {
            device.Lose(cut: true);
            device.ServiceDied();
        }
        waiting.Clear();
        ledgerScheduled = false;
        history.Dispose();
        disk.Dispose(); // what was not committed is rolled back
        Start();
    }

    void Crash()
    {
        Counts.Crashes++;
        Note("crash");
        if (Chance(0.2)) clock.StartAnew(); // the whole machine
        Restart();
        foreach (var device in devices) device.ComeBack(Short(400));
    }

    void Backup()
    {
        var file = Path.Combine(folder, $"backup-{backups.Count}.db");
        using (var source = SqliteFiles.Open(DiskPath, readOnly: true))
        using (var copy = source.CreateCommand())
        {
            copy.CommandText = "VACUUM INTO $file";
            copy.Parameters.AddWithValue("$file", file);
            copy.ExecuteNonQuery();
        }
        backups.Add(new Copied(file, reference.Clone(), new(numbers), new(numberAt), new(numberOf)));
        Note($"backup {backups.Count - 1} at {reference.Head}");
    }

    /// <summary>A copy of the file, and what was known of it then.</summary>
    sealed record Copied(string File, Reference Reference, Dictionary<NotificationId, int> Numbers, Dictionary<(long, long), int> NumberAt,
        Dictionary<int, int> NumberOf);

    void ListenTo(Reference told)
    {
        told.BeforeEntry = NoteTotals;
        told.Gathered = Gathered;
        told.Attending = AttendingNow;
    }

    void Restore()
    {
        Counts.Restores++;
        EndAsleep();
        erasing = true; // it may have been under way then
        var backup = Pick(backups);
        Note("restore");
        foreach (var device in devices)
        {
            device.Lose(cut: true);
            device.ServiceDied();
        }
        waiting.Clear();
        ledgerScheduled = false;
        history.Dispose();
        disk.Dispose();
        diskLife++;
        File.Copy(backup.File, DiskPath);
        SqliteFiles.NewEpoch(DiskPath);
        reference = backup.Reference.Clone();
        ListenTo(reference);
        numbers.Clear();
        foreach (var (id, number) in backup.Numbers) numbers[id] = number;
        numberAt.Clear();
        foreach (var (place, number) in backup.NumberAt) numberAt[place] = number;
        // A gathering that was open may have closed, in another life, at another place.
        numberOf.Clear();
        foreach (var (draft, number) in backup.NumberOf) numberOf[draft] = number;
        TotalsOverTime.Clear();
        published.Clear(); // what of them is in this history is not known
        Start();
        NoteTotals();
        foreach (var device in devices) device.ComeBack(Short(400));
    }
}
