using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;

namespace Rovett.Testing.Servers;

/// <summary>Ports on loopback that nobody uses. They are below those that the system gives to outgoing connections
/// (32768 and above on Linux), so that none of these takes one before the server under test listens on it.</summary>
public static class FreePort
{
    const int First = 10_000, Last = 32_767;
    static readonly ConcurrentDictionary<int, bool> given = [];

    /// <summary>One of them, another at each call.</summary>
    public static int Next()
    {
        for (var tries = 0; tries < 1000; tries++)
        {
            var port = Random.Shared.Next(First, Last + 1);
            if (given.TryAdd(port, true) && IsFree(port)) return port;
        }
        throw new InvalidOperationException($"no free port from {First} to {Last}");
    }

    static bool IsFree(int port)
    {
        using var listener = new TcpListener(IPAddress.Loopback, port);
        try
        {
            listener.Start();
            return true;
        }
        catch (SocketException e) when (e.SocketErrorCode == SocketError.AddressAlreadyInUse)
        {
            return false;
        }
    }
}
