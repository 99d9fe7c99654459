using System.Net;
using System.Net.Sockets;
using Rovett.Service.Limits;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Only a few connections begin at a time, and none is kept out.</summary>
public sealed class ConnectionTurnsTests
{
    [Fact]
    public async Task Turns_that_nobody_ends_pass_to_those_who_wait()
    {
        using var turns = new ConnectionTurns();
        await Task.WhenAll(Enumerable.Range(0, 100).Select(_ => turns.Begin().AsTask())).WaitAsync(TimeSpan.FromSeconds(30));
    }

    [Fact]
    public async Task Few_have_a_turn_at_a_time_and_each_may_be_ended_twice()
    {
        const int askers = 64;
        using var turns = new ConnectionTurns();
        int now = 0, most = 0;
        var gate = new Lock();
        await Parallel.ForAsync(0, 5000, new ParallelOptions { MaxDegreeOfParallelism = askers }, async (_, _) =>
        {
            using var turn = await turns.Begin();
            lock (gate) most = Math.Max(most, ++now);
            await Task.Yield();
            lock (gate) now--;
            turn.Dispose();
        });
        most.ShouldBeInRange(2, askers / 2);
    }

    [Fact]
    public async Task Sessions_open_though_others_connect_and_say_nothing()
    {
        await using var s = await ServiceUnderTest.Start();
        var silent = new List<Socket>();
        try
        {
            for (int i = 0; i < 300; i++)
            {
                silent.Add(new Socket(SocketType.Stream, ProtocolType.Tcp));
                await silent[^1].ConnectAsync(IPAddress.Loopback, s.Port);
            }
            var opened = await Task.WhenAll(Enumerable.Range(0, 60).Select(async n => n % 2 == 0
                ? (IDisposable)await s.WebSocket(s.Token("mara")) : await s.Events(s.Token("mara"))));
            await s.Send("user:mara", "still heard");
            foreach (var session in opened)
            {
                if (session is RawWebSocket socket) await socket.Next("notification");
                else await ((RawEvents)session).Next("notification");
                session.Dispose();
            }
        }
        finally
        {
            foreach (var socket in silent) socket.Dispose();
        }
    }
}
