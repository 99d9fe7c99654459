using System.Buffers.Text;
using System.Net;
using System.Net.Sockets;
using System.Text;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>A thousand people of one role, a thousand notifications: each in order, none missing, none doubled, every
/// one acknowledged, every inbox and total agreeing.</summary>
public sealed class CrowdTests
{
    const int People = 1000, Notifications = 1000, AckEvery = 125;

    [Theory]
    [InlineData("websocket")]
    [InlineData("sse")]
    public async Task A_thousand_sessions_of_a_role_each_receive_and_acknowledge_a_thousand(string transport)
    {
        await using var s = await ServiceUnderTest.Start();
        var tokens = Enumerable.Range(0, People).Select(i => s.Token($"person{i}", "engineer")).ToArray();
        using var posts = new HttpClient(new SocketsHttpHandler { MaxConnectionsPerServer = 64, UseProxy = false });
        var readers = tokens.Select(t => new Reader(s, t, transport, posts)).ToArray();
        foreach (var chunk in readers.Chunk(50)) await Task.WhenAll(chunk.Select(r => r.Connect()));
        var reading = Task.WhenAll(readers.Select(r => Task.Run(r.Run)));

        int next = 0;
        var ids = new string[Notifications];
        // One sender keeps the order; the ledger joins what others ask meanwhile.
        for (int i = 0; i < Notifications; i++)
        {
            var answer = await s.Post("/v1/notifications", s.Key,
                $$$"""{"to":["role:engineer"],"type":"engine.check.due","title":"n","data":{"n":{{{i}}}}}""");
            ids[next++] = (string)answer.Json!["id"]!;
        }
        await reading;

        foreach (var reader in readers) reader.Seen.ShouldBe(Notifications);
        foreach (int sample in new[] { 0, 1, 499, 998, 999 })
        {
            var seen = await Eventually.Holds(() => s.Get("/v1/notifications/" + ids[sample], s.Key),
                a => (int)a.Json!["people"]!["received"]! == People, $"everybody's ack of number {sample} is stored");
            seen.Json!["people"]!["read"]!.GetValue<int>().ShouldBe(0);
        }
        await Parallel.ForEachAsync(Enumerable.Range(0, People), new ParallelOptions { MaxDegreeOfParallelism = 8 }, async (i, _) =>
        {
            if (i % 2 == 0) await s.Post("/v1/inbox/marks", tokens[i], $$$"""{"read":{"ids":["{{{ids[i]}}}"]}}""");
            var inbox = await s.Get("/v1/inbox?limit=1", tokens[i]);
            inbox.Json!["totals"]!["unread"]!.GetValue<long>().ShouldBe(Notifications - (i % 2 == 0 ? 1 : 0));
            ((string)inbox.Json["items"]![0]!["id"]!).ShouldBe(ids[^1]);
        });
    }

    /// <summary>One session, read as bytes: a thousand of them must not cost more than what they test.</summary>
    sealed class Reader(ServiceUnderTest s, string token, string transport, HttpClient posts)
    {
        readonly Socket socket = new(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        byte[] buffer = new byte[8192];
        int length;
        string session = "", cursor = "";

        public int Seen { get; private set; }

        public async Task Connect()
        {
            await socket.ConnectAsync(IPAddress.Loopback, s.Port);
            var more = transport == "websocket" ? "Upgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: " +
                "13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n" : "Accept: text/event-stream\r\n";
            await socket.SendAsync(
                Encoding.ASCII.GetBytes($"GET /v1/live HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\n{more}\r\n"));
            while (buffer.AsSpan(0, length).IndexOf("\"kind\":\"current\""u8) < 0) await Fill();
            session = Text("\"session\":\""u8, 0)!.Value.Text;
        }

        async Task Fill()
        {
            if (length == buffer.Length) Array.Resize(ref buffer, length * 2);
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(30));
            int count = await socket.ReceiveAsync(buffer.AsMemory(length), limit.Token);
            if (count == 0) throw new IOException($"Closed after {Seen} notifications.");
            length += count;
        }

        (string Text, int End)? Text(ReadOnlySpan<byte> before, int from)
        {
            int at = buffer.AsSpan(from, length - from).IndexOf(before);
            if (at < 0) return null;
            at += from + before.Length;
            int end = buffer.AsSpan(at, length - at).IndexOf((byte)'"');
            return end < 0 ? null : (Encoding.ASCII.GetString(buffer, at, end), at + end);
        }

        public async Task Run()
        {
            int at = 0;
            while (Seen < Notifications)
            {
                while (Text("\"kind\":\"notification\",\"cursor\":\""u8, at) is { } found)
                {
                    int n = buffer.AsSpan(found.End, length - found.End).IndexOf("\"n\":"u8);
                    // The rest is still on its way.
                    if (n < 0 || buffer.AsSpan(found.End + n, length - found.End - n).IndexOf((byte)'}') < 0) break;
                    Utf8Parser.TryParse(buffer.AsSpan(found.End + n + 4), out int number, out _).ShouldBeTrue();
                    number.ShouldBe(Seen); // in order, none missing, none doubled
                    Seen++;
                    cursor = found.Text;
                    at = found.End;
                    if (Seen % AckEvery == 0) await Ack();
                }
                buffer.AsSpan(at, length - at).CopyTo(buffer);
                length -= at;
                at = 0;
                if (Seen < Notifications) await Fill();
            }
        }

        async Task Ack()
        {
            var message = $$"""{"kind":"ack","upTo":"{{cursor}}"}""";
            if (transport == "websocket")
            {
                await socket.SendAsync(RawWebSocket.Frame(0x81, Encoding.ASCII.GetBytes(message)));
                return;
            }
            using var request = new HttpRequestMessage(HttpMethod.Post, new Uri(s.Url, "/v1/live/" + session))
            { Content = new StringContent(message, Encoding.UTF8, "application/json") };
            request.Headers.Add("Authorization", "Bearer " + token);
            using var answer = await posts.SendAsync(request);
            answer.StatusCode.ShouldBe(HttpStatusCode.NoContent);
        }
    }
}
