using System.Collections.Concurrent;

namespace Rovett.Service.Live;

/// <summary>What is broken on purpose, to be looked at: given to the service by the program that makes it. No setting
/// and no request reaches it.</summary>
public sealed class FaultSwitches
{
    readonly ConcurrentDictionary<string, byte> withoutWebSocket = new();

    internal event Action<string>? Blocked;

    /// <summary>Behaves towards a device like a proxy that lets no WebSocket through, from now on or no longer. The one
    /// it has is cut.</summary>
    /// <param name="device">The device's name, as it connects with.</param>
    /// <param name="blocked">Whether.</param>
    public void BlockWebSocket(string device, bool blocked)
    {
        if (!blocked) withoutWebSocket.TryRemove(device, out _);
        else if (withoutWebSocket.TryAdd(device, 0)) Blocked?.Invoke(device);
    }

    /// <summary>Whether a device gets no WebSocket through.</summary>
    public bool BlocksWebSocket(string device) => withoutWebSocket.ContainsKey(device);
}
