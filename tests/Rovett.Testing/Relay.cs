using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace Rovett.Testing;

/// <summary>A network between a client and the service that does what bad proxies do.</summary>
public sealed class Relay : IDisposable
{
    readonly TcpListener listener = new(IPAddress.Loopback, 0);
    readonly CancellationTokenSource over = new();

    public Relay(int port)
    {
        Port = port;
        listener.Start();
        _ = Accept();
    }

    /// <summary>Where it passes new connections on to.</summary>
    public int Port { get; set; }

    public Uri Url => new($"http://127.0.0.1:{((IPEndPoint)listener.LocalEndpoint).Port}");

    readonly ConcurrentDictionary<TcpClient, byte> open = new();

    /// <summary>Ends every connection that is open now, without a word.</summary>
    public void Cut()
    {
        foreach (var client in open.Keys) client.Client.Close(0);
    }

    /// <summary>Nothing is passed on any more on the connections there are, and nobody is told: new ones work.</summary>
    public void Silence() => silentUpTo = connections;

    int connections, silentUpTo;

    /// <summary>Upgrades are answered as if they were broken requests.</summary>
    public bool StripsUpgrades { get; set; }

    /// <summary>Nothing of a stream is passed on before its end.</summary>
    public bool BuffersStreams { get; set; }

    /// <summary>So many of the next POSTs are answered 503, and not passed on.</summary>
    public int PostsRefused;

    async Task Accept()
    {
        try
        {
            for (; ; ) _ = Pass(await listener.AcceptTcpClientAsync(over.Token));
        }
        catch (OperationCanceledException)
        {
        }
    }

    async Task Pass(TcpClient near)
    {
        using var far = new TcpClient();
        open[near] = 0;
        int number = Interlocked.Increment(ref connections);
        using (near)
        {
            try
            {
                await far.ConnectAsync(IPAddress.Loopback, Port, over.Token);
                var (here, there) = (near.GetStream(), far.GetStream());
                bool stream = false;
                async Task Out()
                {
                    var buffer = new byte[65536];
                    for (int count; (count = await here.ReadAsync(buffer, over.Token)) > 0;)
                    {
                        var text = Encoding.Latin1.GetString(buffer, 0, count);
                        if (text.StartsWith("GET ", StringComparison.Ordinal) || text.StartsWith("POST ", StringComparison.Ordinal))
                        {
                            stream = text.Contains("text/event-stream", StringComparison.Ordinal);
                        }
                        if (StripsUpgrades && text.Contains("Upgrade: websocket", StringComparison.OrdinalIgnoreCase))
                        {
                            await here.WriteAsync("HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"u8.ToArray(),
                                over.Token);
                            return;
                        }
                        if (text.StartsWith("POST ", StringComparison.Ordinal) && Interlocked.Decrement(ref PostsRefused) >= 0)
                        {
                            await here.WriteAsync(
                                "HTTP/1.1 503 Service Unavailable\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"u8.ToArray(),
                                over.Token);
                            return;
                        }
                        if (number > silentUpTo) await there.WriteAsync(buffer.AsMemory(0, count), over.Token);
                    }
                }
                async Task Back()
                {
                    var buffer = new byte[65536];
                    for (int count; (count = await there.ReadAsync(buffer, over.Token)) > 0;)
                    {
                        if (!(stream && BuffersStreams) && number > silentUpTo)
                        {
                            await here.WriteAsync(buffer.AsMemory(0, count), over.Token);
                        }
                    }
                }
                await Task.WhenAny(Out(), Back());
            }
            catch (Exception error) when (error is IOException or SocketException or OperationCanceledException or ObjectDisposedException)
            {
            }
            finally
            {
                open.TryRemove(near, out _);
            }
        }
    }

    public void Dispose()
    {
        over.Cancel();
        listener.Dispose();
        over.Dispose();
    }
}
