using System.Collections.Concurrent;

namespace Rovett.Service.Outbound;

/// <summary>When the calls and e-mails of each space are to be looked at.</summary>
public sealed class OutboundNews
{
    readonly ConcurrentDictionary<string, long> due = new();

    /// <summary>There is something new to send.</summary>
    public void Tell(string space) => due[space] = 0;

    /// <summary>Whether a space is to be looked at now. It is not again until it is told or its next time comes.</summary>
    public bool Take(string space, long now)
    {
        if (!due.TryGetValue(space, out long at) || at > now) return false;
        due[space] = long.MaxValue;
        return true;
    }

    /// <summary>A space is to be looked at again at a time, unless it is told before.</summary>
    public void Next(string space, long at) => due.AddOrUpdate(space, at, (_, known) => Math.Min(known, at));
}
