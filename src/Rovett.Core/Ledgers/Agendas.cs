using System.Collections.Concurrent;

namespace Rovett.Core.Ledgers;

/// <summary>The agendas of all spaces.</summary>
public sealed class Agendas
{
    readonly ConcurrentDictionary<string, SpaceAgenda> spaces = new();
    bool mayPurge = true;

    /// <summary>That of one space.</summary>
    public SpaceAgenda Of(string space) => spaces.GetOrAdd(space, static _ => new SpaceAgenda());

    /// <summary>Data of removed spaces may still be stored.</summary>
    public bool MayPurge { get => Volatile.Read(ref mayPurge); set => Volatile.Write(ref mayPurge, value); }

    /// <summary>A space was removed.</summary>
    internal void Remove(string space)
    {
        spaces.TryRemove(space, out _);
        MayPurge = true;
    }
}
