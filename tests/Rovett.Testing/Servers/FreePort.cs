using System.Net;
using System.Net.Sockets;

namespace Rovett.Testing.Servers;

/// <summary>Ports on loopback that nobody uses.</summary>
public static class FreePort
{
    /// <summary>One of them.</summary>
    public static int Next()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }
}
