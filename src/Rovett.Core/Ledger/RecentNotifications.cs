using Rovett.Core.Delivery;

namespace Rovett.Core.Ledger;

/// <summary>The newest notifications of a space as finished bytes, bounded in memory. Safe to read from any thread.</summary>
public sealed class RecentNotifications(long maxBytes)
{
    readonly Lock gate = new();
    readonly Dictionary<long, OutgoingNotification> byPosition = [];
    readonly Queue<OutgoingNotification> order = new();
    long bytes;

    /// <summary>Keeps one, and lets the oldest go.</summary>
    public void Add(OutgoingNotification notification)
    {
        lock (gate)
        {
            if (!byPosition.TryAdd(notification.Position.Value, notification)) return;
            order.Enqueue(notification);
            bytes += notification.Weight;
            while (bytes > maxBytes && order.Count > 1)
            {
                var oldest = order.Dequeue();
                byPosition.Remove(oldest.Position.Value);
                bytes -= oldest.Weight;
            }
        }
    }

    /// <summary>The one at a position, or null when it is not kept.</summary>
    public OutgoingNotification? Find(long position)
    {
        lock (gate) return byPosition.GetValueOrDefault(position);
    }
}

/// <summary>The newest notifications of every space.</summary>
/// <param name="maxBytes">The bound for each space, in bytes.</param>
public sealed class RecentBySpace(long maxBytes = 64 << 20)
{
    readonly System.Collections.Concurrent.ConcurrentDictionary<string, RecentNotifications> spaces = new();

    /// <summary>Those of one space.</summary>
    public RecentNotifications Of(string space) => spaces.GetOrAdd(space, static (_, bytes) => new RecentNotifications(bytes), maxBytes);
}
