using System.Net;
using System.Net.Sockets;

namespace Rovett.Testing;

/// <summary>What stands before several nodes: each connection goes to one of them by chance; one that refuses is passed over.</summary>
public sealed class Front : IDisposable
{
    readonly TcpListener listener = new(IPAddress.Loopback, 0);
    readonly CancellationTokenSource stop = new();
    volatile IPEndPoint[] ends = [];

    public Front()
    {
        listener.Start();
        _ = Accept();
    }

    public Uri Url => new($"http://127.0.0.1:{((IPEndPoint)listener.LocalEndpoint).Port}");

    /// <summary>Where the nodes listen now.</summary>
    public void Leads(IEnumerable<int> to) => Leads(to.Select(port => new IPEndPoint(IPAddress.Loopback, port)));

    /// <summary>Where the nodes listen now.</summary>
    public void Leads(IEnumerable<IPEndPoint> to) => ends = [.. to];

    async Task Accept()
    {
        try
        {
            for (; ; ) _ = Serve(await listener.AcceptSocketAsync(stop.Token));
        }
        catch (Exception error) when (error is OperationCanceledException or SocketException or ObjectDisposedException)
        {
            // It is over.
        }
    }

    async Task Serve(Socket from)
    {
        using var one = from;
        IPEndPoint[] order = [.. ends];
        Random.Shared.Shuffle(order);
        foreach (var end in order)
        {
            using var to = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
            one.NoDelay = true;
            try
            {
                await to.ConnectAsync(end, stop.Token);
            }
            catch (SocketException)
            {
                continue;
            }
            await Task.WhenAny(Copy(one, to), Copy(to, one));
            return;
        }
    }

    async Task Copy(Socket from, Socket to)
    {
        var buffer = new byte[16 * 1024];
        try
        {
            while (await from.ReceiveAsync(buffer, stop.Token) is var count and > 0) await to.SendAsync(buffer.AsMemory(0, count), stop.Token);
        }
        catch (Exception error) when (error is SocketException or OperationCanceledException or ObjectDisposedException)
        {
            // Both sides end.
        }
    }

    public void Dispose()
    {
        stop.Cancel();
        listener.Dispose();
        stop.Dispose();
    }
}
