using System.Net;
using System.Net.Sockets;
using System.Text;
using Rovett.Testing;

namespace Rovett.Bench;

/// <summary>One session of the load client: reads all that comes, counts notifications, and acknowledges each 128th over
/// WebSocket.</summary>
/// <param name="acks">Whether it acknowledges.</param>
/// <param name="came">Called with how many notifications came.</param>
/// <param name="opened">Called once with what came up to when it said that it is open.</param>
sealed class LoadSession(bool acks, Action<int> came, Action<string>? opened = null) : IDisposable
{
    const int AckEvery = 128;

    readonly Socket socket = new(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };

    /// <summary>Connects, and goes on reading until it is disposed.</summary>
    public async Task Connect(int port, byte[] request, CancellationToken cancel)
    {
        await socket.ConnectAsync(IPAddress.Loopback, port, cancel);
        await socket.SendAsync(request, cancel);
        _ = Read(cancel);
    }

    async Task Read(CancellationToken cancel)
    {
        const int keep = 64; // so that a mark cut by the end of the buffer is found in the next
        var buffer = new byte[16384];
        int length = 0, unacknowledged = 0;
        string cursor = "";
        bool isOpen = opened is null;
        try
        {
            for (; ; )
            {
                int count = await socket.ReceiveAsync(buffer.AsMemory(length), cancel);
                if (count == 0) return;
                length += count;
                if (!isOpen && buffer.AsSpan(0, length).IndexOf("\"kind\":\"opened\""u8) >= 0)
                {
                    isOpen = true;
                    opened!(Encoding.ASCII.GetString(buffer, 0, length));
                }
                int at = 0, found = 0;
                while (buffer.AsSpan(at, length - at).IndexOf("\"kind\":\"notification\",\"cursor\":\""u8) is var next && next >= 0
                    && at + next + 32 + 22 <= length)
                {
                    at += next + 32;
                    found++;
                    if (acks && unacknowledged + found >= AckEvery) cursor = Encoding.ASCII.GetString(buffer, at, 22);
                }
                if (found > 0) came(found);
                unacknowledged += found;
                if (acks && unacknowledged >= AckEvery)
                {
                    unacknowledged = 0;
                    await socket.SendAsync(RawWebSocket.Frame(0x81, Encoding.ASCII.GetBytes($$"""{"kind":"ack","upTo":"{{cursor}}"}""")),
                        cancel);
                }
                int rest = Math.Min(keep, length - at);
                buffer.AsSpan(length - rest, rest).CopyTo(buffer);
                length = rest;
            }
        }
        catch (Exception closed) when (closed is OperationCanceledException or SocketException or ObjectDisposedException)
        {
        }
    }

    public void Dispose() => socket.Dispose();
}
