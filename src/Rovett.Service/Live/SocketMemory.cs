using System.Net;
using System.Net.Sockets;
using Microsoft.AspNetCore.Server.Kestrel.Transport.Sockets;

namespace Rovett.Service.Live;

/// <summary>Bounds what the machine keeps for a device that does not read. Left alone the kernel would grow a
/// connection's send buffer to megabytes, filled with what is out of date by the time it is read.</summary>
static class SocketMemory
{
    /// <summary>How much may wait in this process before a write waits too, in bytes: longer than one write but for those of
    /// long pages, so that a device that reads never makes it wait. While a long page's write waits, the next page is read.</summary>
    public const int Waiting = 16 * 1024;

    /// <summary>How much may wait in the kernel that the network did not take yet, in bytes. What is under way to the device is
    /// not bounded by this, so that long lines are still filled.</summary>
    const int Unsent = 8 * 1024;
    const int Tcp = 6, NotSentLowWater = 25; // IPPROTO_TCP, TCP_NOTSENT_LOWAT of Linux

    /// <summary>A listening socket whose connections have the bound.</summary>
    public static Socket Listen(EndPoint endpoint)
    {
        var socket = SocketTransportOptions.CreateDefaultBoundListenSocket(endpoint);
        if (OperatingSystem.IsLinux() && endpoint is IPEndPoint)
        {
            socket.SetRawSocketOption(Tcp, NotSentLowWater, BitConverter.GetBytes(Unsent));
        }
        return socket;
    }
}
