using System.Reflection;
using Rovett.Storage.Homes;

namespace Rovett.Service.Diagnostics;

/// <summary>The service's own status.</summary>
public sealed record ServiceInfo(Epoch Epoch, StoredTime Since, IStoreHome Home)
{
    /// <summary>The program's version.</summary>
    public static readonly string Version =
        typeof(ServiceInfo).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion.Split('+')[0] ?? "0";

    /// <summary>Bytes of the history on disk.</summary>
    public long HistoryBytes() => Home.HistoryBytes();

    /// <summary>Bytes that are free on its disk; null: only the database server knows.</summary>
    public long? FreeBytes() => Home.FreeBytes();

    /// <summary>What the process's objects took after the last whole collection; 0: there was none yet.</summary>
    public static long LiveBytes()
    {
        var collection = new[] { GC.GetGCMemoryInfo(GCKind.Background), GC.GetGCMemoryInfo(GCKind.FullBlocking) }.MaxBy(c => c.Index);
        return collection.HeapSizeBytes - collection.FragmentedBytes;
    }
}
