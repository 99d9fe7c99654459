using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using Rovett.Service.Diagnostics;

namespace Rovett.Service.Cluster;

/// <summary>Connects to the other nodes once a second to see whether the network between them works. The kernel answers, so a process that
/// is busy or paused counts as reached; whether it is alive is a matter of its signs of life. Runs on a thread of its own, so that a busy
/// thread pool does not make other nodes look lost.</summary>
sealed class Reach : IDisposable
{
    static readonly TimeSpan Every = TimeSpan.FromSeconds(1), Within = TimeSpan.FromSeconds(1);
    const int LostAfter = 3; // failed attempts in a row

    sealed class Way
    {
        public readonly CancellationTokenSource Lost = new();
        public int Failures;
    }

    readonly Func<IReadOnlyCollection<(Guid Life, Uri Url)>> peers;
    readonly Faults faults;
    readonly Action changed;
    readonly ConcurrentDictionary<Guid, Way> ways = new();
    readonly CancellationTokenSource stop = new();
    readonly Thread thread;

    /// <param name="peers">The other nodes that live.</param>
    /// <param name="faults">Hears of bugs.</param>
    /// <param name="changed">Called when one was lost or is reached again.</param>
    public Reach(Func<IReadOnlyCollection<(Guid Life, Uri Url)>> peers, Faults faults, Action changed)
    {
        (this.peers, this.faults, this.changed) = (peers, faults, changed);
        thread = new Thread(Run) { Name = "reach", IsBackground = true };
        thread.Start();
    }

    /// <summary>The nodes that live and can't be reached from here.</summary>
    public IReadOnlyCollection<Guid> Lost => [.. ways.Where(w => w.Value.Lost.IsCancellationRequested).Select(w => w.Key)];

    /// <summary>Cancelled once this node can no longer reach another.</summary>
    public CancellationToken LossOf(Guid node) => ways.TryGetValue(node, out var way) ? way.Lost.Token : CancellationToken.None;

    void Run()
    {
        while (!stop.IsCancellationRequested)
        {
            long began = Environment.TickCount64;
            try
            {
                Try(peers());
            }
            catch (Exception error)
            {
                faults.Bug(null, nameof(Reach), error);
            }
            var rest = Every - TimeSpan.FromMilliseconds(Environment.TickCount64 - began);
            if (rest > TimeSpan.Zero) stop.Token.WaitHandle.WaitOne(rest);
        }
    }

    void Try(IReadOnlyCollection<(Guid Life, Uri Url)> peers)
    {
        var answered = Answered(peers);
        bool isNews = false;
        foreach (var life in ways.Keys.Except(peers.Select(p => p.Life)).ToList())
            isNews |= ways.TryRemove(life, out var gone) && gone.Lost.IsCancellationRequested;
        foreach (var (life, _) in peers)
        {
            var way = ways.GetOrAdd(life, _ => new Way());
            if (!answered.Contains(life))
            {
                if (++way.Failures != LostAfter) continue;
                isNews = true;
                _ = way.Lost.CancelAsync();
            }
            else if (way.Failures >= LostAfter)
            {
                isNews = true;
                ways[life] = new Way();
            }
            else way.Failures = 0;
        }
        if (isNews) changed();
    }

    /// <summary>Connects to all at once, without blocking.</summary>
    static HashSet<Guid> Answered(IReadOnlyCollection<(Guid Life, Uri Url)> peers)
    {
        var answered = new HashSet<Guid>();
        var waiting = new Dictionary<Socket, Guid>();
        try
        {
            foreach (var (life, url) in peers)
            {
                if (AddressOf(url) is not { } address) continue;
                var socket = new Socket(address.AddressFamily, SocketType.Stream, ProtocolType.Tcp) { Blocking = false };
                waiting[socket] = life;
                try
                {
                    socket.Connect(address, url.Port);
                }
                catch (SocketException error) when (error.SocketErrorCode is SocketError.WouldBlock or SocketError.InProgress)
                {
                    // It is under way.
                }
                catch (SocketException)
                {
                    waiting.Remove(socket);
                    socket.Dispose();
                }
            }
            long end = Environment.TickCount64 + (long)Within.TotalMilliseconds;
            for (long left = 1; waiting.Count > 0 && left > 0;)
            {
                left = Math.Max(0, end - Environment.TickCount64); // at 0, answers that are already here still count
                var (connected, failed) = (waiting.Keys.ToList(), waiting.Keys.ToList());
                Socket.Select(null, connected, failed, TimeSpan.FromMilliseconds(left));
                foreach (var socket in connected.Union(failed))
                {
                    if ((int)socket.GetSocketOption(SocketOptionLevel.Socket, SocketOptionName.Error)! == 0) answered.Add(waiting[socket]);
                    waiting.Remove(socket);
                    socket.Dispose();
                }
            }
        }
        finally
        {
            foreach (var socket in waiting.Keys) socket.Dispose();
        }
        return answered;
    }

    static IPAddress? AddressOf(Uri url)
    {
        if (IPAddress.TryParse(url.Host.Trim('[', ']'), out var address)) return address;
        try
        {
            return Dns.GetHostAddresses(url.Host).FirstOrDefault();
        }
        catch (SocketException)
        {
            return null; // its name is not known now
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        stop.Cancel();
        if (thread.Join(TimeSpan.FromSeconds(5))) stop.Dispose(); // a slow look-up of a name may outlast it
    }
}
