using System.Net;
using System.Net.Sockets;
using System.Text;

namespace Rovett.Bench;

/// <summary>Sends requests over one connection, one after the other. A client library costs several times what the floor does with a
/// request, and would hide the difference.</summary>
sealed class Sender : IDisposable
{
    readonly Socket socket = new(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
    readonly byte[] buffer = new byte[16384];

    public static async Task<Sender> Connect(int port)
    {
        var sender = new Sender();
        await sender.socket.ConnectAsync(IPAddress.Loopback, port);
        return sender;
    }

    /// <summary>Sends a request, and reads its answer to the end.</summary>
    public async Task Send(byte[] request)
    {
        await socket.SendAsync(request);
        for (int length = 0, end = -1; end != length;)
        {
            int count = await socket.ReceiveAsync(buffer.AsMemory(length));
            if (count == 0) throw new IOException("The server closed the connection.");
            length += count;
            int head = buffer.AsSpan(0, length).IndexOf("\r\n\r\n"u8) + 4;
            if (head < 4) continue;
            if (buffer[9] != '2') throw new IOException(Encoding.ASCII.GetString(buffer, 0, length));
            int at = buffer.AsSpan(0, head).IndexOf("Content-Length: "u8);
            if (at >= 0) end = head + int.Parse(buffer.AsSpan(at + 16, buffer.AsSpan(at).IndexOf((byte)'\r') - 16));
            else if (buffer.AsSpan(0, length).EndsWith("0\r\n\r\n"u8)) end = length;
        }
    }

    public void Dispose() => socket.Dispose();
}
