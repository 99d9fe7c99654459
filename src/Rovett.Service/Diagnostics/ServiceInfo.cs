using System.Reflection;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Diagnostics;

/// <summary>The service's own status.</summary>
public sealed record ServiceInfo(Epoch Epoch, StoredTime Since, string DataFolder)
{
    /// <summary>The program's version.</summary>
    public static readonly string Version =
        typeof(ServiceInfo).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion.Split('+')[0] ?? "0";

    /// <summary>Bytes of the history on disk.</summary>
    public long HistoryBytes() => new DirectoryInfo(DataFolder).EnumerateFiles(SqliteFiles.HistoryName + "*").Sum(f => f.Length);

    /// <summary>Bytes that are free on the disk of the data folder.</summary>
    public long FreeBytes() => new DriveInfo(DataFolder).AvailableFreeSpace;

    /// <summary>What the process's objects took after the last whole collection; 0: there was none yet.</summary>
    public static long LiveBytes()
    {
        var collection = new[] { GC.GetGCMemoryInfo(GCKind.Background), GC.GetGCMemoryInfo(GCKind.FullBlocking) }.MaxBy(c => c.Index);
        return collection.HeapSizeBytes - collection.FragmentedBytes;
    }
}
