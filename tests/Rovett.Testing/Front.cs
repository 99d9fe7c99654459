using System.Net;
using System.Net.Sockets;

namespace Rovett.Testing;

/// <summary>What stands before several nodes: each connection goes to one of them by chance; one that refuses is passed over.</summary>
public sealed class Front : IDisposable
{
    readonly TcpListener listener;
    readonly CancellationTokenSource stop = new();
    volatile IPEndPoint[] ends = [];
    volatile CancellationTokenSource cut = new();

    /// <param name="at">The address to listen at; null: loopback.</param>
    public Front(IPAddress? at = null)
    {
        listener = new TcpListener(at ?? IPAddress.Loopback, 0);
        listener.Start();
        _ = Accept();
    }

    public Uri Url => new($"http://{listener.LocalEndpoint}");

    /// <summary>Where the nodes listen now.</summary>
    public void Leads(IEnumerable<int> to) => Leads(to.Select(port => new IPEndPoint(IPAddress.Loopback, port)));

    /// <summary>Where the nodes listen now.</summary>
    public void Leads(IEnumerable<IPEndPoint> to) => ends = [.. to];

    /// <summary>Closes all connections, and every new one until it is told where to lead again.</summary>
    public void Cut()
    {
        ends = [];
        Interlocked.Exchange(ref cut, new CancellationTokenSource()).Cancel();
    }

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
        using var over = CancellationTokenSource.CreateLinkedTokenSource(stop.Token, cut.Token);
        IPEndPoint[] order = [.. ends];
        Random.Shared.Shuffle(order);
        foreach (var end in order)
        {
            using var to = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
            one.NoDelay = true;
            try
            {
                await to.ConnectAsync(end, over.Token);
            }
            catch (SocketException)
            {
                continue;
            }
            await Task.WhenAny(Copy(one, to, over.Token), Copy(to, one, over.Token));
            return;
        }
    }

    static async Task Copy(Socket from, Socket to, CancellationToken over)
    {
        var buffer = new byte[16 * 1024];
        try
        {
            while (await from.ReceiveAsync(buffer, over) is var count and > 0) await to.SendAsync(buffer.AsMemory(0, count), over);
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
