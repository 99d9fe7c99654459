using System.Net;
using System.Net.Sockets;
using System.Threading.Channels;

namespace Rovett.Service.Intakes.Lines;

/// <summary>Takes the lines of datagrams. What comes faster than it can be taken, or from elsewhere, is left out and counted.</summary>
sealed class UdpSource(UdpKind kind, Inlet inlet) : IIntakeSource
{
    const int MostWaiting = 10_000, MaxDatagram = 65_536, SocketBuffer = 4 << 20;

    readonly Channel<Line> waiting = Channel.CreateBounded<Line>(MostWaiting);
    readonly LineRate rate = new(kind.Lines.PerSecond, inlet.Clock);
    Socket? socket;

    public async Task Run(CancellationToken drain)
    {
        socket = new Socket(kind.Listen.AddressFamily, SocketType.Dgram, ProtocolType.Udp) { ReceiveBufferSize = SocketBuffer };
        socket.Bind(kind.Listen);
        inlet.Progress.Is(IntakeState.Running);
        await Task.WhenAll(Receive(drain), Take());
    }

    async Task Receive(CancellationToken drain)
    {
        var buffer = new byte[MaxDatagram];
        var from = new SocketAddress(kind.Listen.AddressFamily);
        var template = new IPEndPoint(kind.Listen.Address, 0);
        try
        {
            while (true)
            {
                int count = await socket!.ReceiveFromAsync(buffer, SocketFlags.None, from, drain);
                if (!LineSettings.Allows(kind.Allowed, ((IPEndPoint)template.Create(from)).Address)) inlet.Progress.Dropped(1);
                else Cut(buffer.AsSpan(0, count));
            }
        }
        catch (OperationCanceledException)
        {
            // What waits is taken.
        }
        finally
        {
            waiting.Writer.Complete();
        }
    }

    void Cut(ReadOnlySpan<byte> datagram)
    {
        foreach (var range in datagram.Split((byte)'\n'))
        {
            var line = datagram[range].Trim(" \t\r"u8);
            if (line.IsEmpty) continue;
            bool isTooLong = line.Length > kind.Lines.MaxLine;
            if (!rate.Take() || !waiting.Writer.TryWrite(new Line(line[..Math.Min(line.Length, kind.Lines.MaxLine)].ToArray(), isTooLong)))
            {
                inlet.Progress.Dropped(1);
            }
        }
    }

    async Task Take()
    {
        while (await waiting.Reader.Next(inlet.Settings.Batch, CancellationToken.None) is { Count: > 0 } lines)
        {
            var now = inlet.Clock.GetUtcNow();
            await inlet.Take([.. lines.Select(l => LineItems.Of(l, kind.Lines.MaxLine, now))]);
            inlet.Progress.HasBehind(waiting.Reader.Count);
        }
    }

    public Task<IReadOnlyList<string>> Test(CancellationToken stop) =>
        Task.FromResult<IReadOnlyList<string>>([$"it listens on {kind.Listen}"]);

    public bool IsFailure(Exception error) => error is SocketException;

    public ValueTask DisposeAsync()
    {
        socket?.Dispose();
        return default;
    }
}
