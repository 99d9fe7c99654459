using System.Net.Sockets;
using System.Text;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Bad input gets its clear answer; nobody else notices, and nothing is lost.</summary>
public sealed class HostileTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;
    RawWebSocket witness = null!;

    public async ValueTask InitializeAsync()
    {
        s = await ServiceUnderTest.Start(o => o.MessagesPerSecond = 0); // or what comes by the thousand would be read slowly
        witness = await s.WebSocket(s.Token("witness", "engineer"));
        await witness.Next("current");
    }

    public async ValueTask DisposeAsync()
    {
        // Whatever the test did: the other session is still there and is told of what comes next, and of nothing before it.
        await s.Send("role:engineer", "after the storm");
        var next = (await witness.Next())!;
        ((string)next["kind"]! + " " + (string?)next["title"]).ShouldBe("notification after the storm");
        witness.Dispose();
        await s.DisposeAsync();
    }

    [Theory]
    [InlineData("not json", "malformed-json")]
    [InlineData("", "malformed-json")]
    [InlineData("[]", "malformed-message")]
    [InlineData("7", "malformed-message")]
    [InlineData("""{"kind":"ack","upTo":"AAAAAAAAAAAAAAAAAAAAAA","handl\ud800ed":true}""", "malformed-json")]
    [InlineData("{}", "invalid-fields")]
    [InlineData("""{"kind":7}""", "invalid-fields")]
    [InlineData("""{"kind":"nonsense"}""", "unknown-kind")]
    [InlineData("""{"kind":"ack"}""", "invalid-fields")]
    [InlineData("""{"kind":"ack","upTo":"short"}""", "malformed-cursor")]
    [InlineData("""{"kind":"ack","upTo":"!!!!!!!!!!!!!!!!!!!!!!"}""", "malformed-cursor")]
    [InlineData("""{"kind":"ack","upTo":"AAAAAAAAAAAAAAAAAAAAAA"}""", "foreign-cursor")]
    [InlineData("""{"kind":"ack","upTo":7}""", "malformed-cursor")]
    [InlineData("""{"kind":"ack","ids":["01ARZ3NDEKTSV4RRFFQ69G5FAV"]}""", "not-outstanding")]
    [InlineData("""{"kind":"markRead","ids":["01ARZ3NDEKTSV4RRFFQ69G5FAV"]}""", "unknown-notification")]
    [InlineData("""{"kind":"markRead","ids":[]}""", "invalid-fields")]
    [InlineData("""{"kind":"markRead","all":true,"subject":"x"}""", "invalid-fields")]
    [InlineData("""{"kind":"markRead","subject":"\u0000"}""", "invalid-fields")]
    [InlineData("""{"kind":"markRead","subject":"\ud800"}""", "invalid-fields")]
    [InlineData("""{"kind":"ack","requestId":{"a":1},"upTo":"x"}""", "invalid-fields")]
    [InlineData("""{"kind":"subscribe","topic":"berth/3"}""", "not-allowed")]
    [InlineData("""{"kind":"subscribe","topic":"berth/{x}"}""", "invalid-fields")]
    [InlineData("""{"kind":"follow","topic":7}""", "invalid-fields")]
    public async Task A_bad_message_is_refused_with_its_reason_and_the_session_goes_on(string text, string slug)
    {
        var token = s.Token("mara");
        using var live = await s.WebSocket(token);
        await live.Next("current");
        await live.Text(text);
        var refused = await live.Next("refused");
        ((string)refused["problem"]!["type"]!).ShouldEndWith(":" + slug);
        ((string)refused["problem"]!["fix"]!).ShouldNotBeEmpty();
        await s.Send("user:mara", "still here");
        ((string)(await live.Next("notification"))["title"]!).ShouldBe("still here");

        using var stream = await s.Events(token, "?after=now");
        var session = (string)(await stream.Next("opened"))["session"]!;
        var posted = await s.Post("/v1/live/" + session, token, text);
        if (text == "[]") posted.Status.ShouldBe(204); // no messages are no mistake in a body that may hold several
        else (posted.Problem ?? ((string)posted.Json![0]!["problem"]!["type"]!).Split(':')[^1]).ShouldBe(slug);
    }

    [Fact]
    public async Task The_answer_to_a_message_repeats_its_requestId()
    {
        using var live = await s.WebSocket(s.Token("mara"));
        await live.Next("current");
        await live.Text("""{"kind":"ack","requestId":"r7"}""");
        ((string)(await live.Next("refused"))["requestId"]!).ShouldBe("r7");
        await live.Text("""{"kind":"markRead","all":true,"requestId":"r8"}""");
        ((string)(await live.Next("done"))["requestId"]!).ShouldBe("r8");
    }

    [Fact]
    public async Task Ten_thousand_garbage_messages_each_get_their_answer()
    {
        using var live = await s.WebSocket(s.Token("mara"));
        await live.Next("current");
        var random = new Random(7);
        const int total = 10_000, chunk = 200;
        for (int sent = 0; sent < total; sent += chunk)
        {
            var frames = new List<byte>();
            for (int i = 0; i < chunk; i++)
            {
                var text = string.Concat(Enumerable.Range(0, random.Next(0, 40)).Select(_ => "{}[]\":,0kindack\\u"[random.Next(17)]));
                frames.AddRange(RawWebSocket.Frame(0x81, Encoding.UTF8.GetBytes(text)));
            }
            await live.Write(frames.ToArray());
            for (int i = 0; i < chunk; i++) (await live.Next("refused"))["problem"]!["fix"].ShouldNotBeNull();
        }
        await s.Send("user:mara", "still here");
        ((string)(await live.Next("notification"))["title"]!).ShouldBe("still here");
    }

    [Fact]
    public async Task A_device_that_floods_and_never_reads_is_ended_and_costs_nobody_else()
    {
        using var live = await s.WebSocket(s.Token("mara"));
        var frames = Enumerable.Repeat(RawWebSocket.Frame(0x81, Encoding.UTF8.GetBytes(new string('x', 100))), 1000).SelectMany(f => f)
            .ToArray();
        var flood = Task.Run(async () =>
        {
            try
            {
                for (int i = 0; i < 400; i++) await live.Write(frames);
            }
            catch (Exception gone) when (gone is SocketException or ObjectDisposedException)
            {
            }
        });
        await s.Send("user:witness", "during it");
        ((string)(await witness.Next("notification"))["title"]!).ShouldBe("during it");
        await Eventually.Holds(async () => (int)(await s.Get("/v1/status", s.Key)).Json!["sessions"]!, n => n == 1,
            "the flooding session is ended", 30);
        live.Cut();
        await flood;
    }

    public static readonly TheoryData<byte[], int> BadFrames = new()
    {
        { RawWebSocket.Frame(0x82, "binary"u8), 1003 },
        { RawWebSocket.Frame(0x81, "{}"u8, masked: false), 1002 },
        { RawWebSocket.Frame(0xC1, "{}"u8), 1002 },
        { RawWebSocket.Frame(0x81, [0xFF, 0xFE]), 1007 },
        { RawWebSocket.Frame(0x81, new byte[70_000]), 1009 },
        { RawWebSocket.Frame(0x80, "x"u8), 1002 },
        { RawWebSocket.Frame(0x88, [3]), 1002 },
    };

    [Theory, MemberData(nameof(BadFrames))]
    public async Task A_frame_that_may_not_be_closes_the_session_with_its_code(byte[] frame, int code)
    {
        using var live = await s.WebSocket(s.Token("mara"));
        await live.Next("current");
        await live.Write(frame);
        while (await live.Next() is not null)
        {
        }
        live.CloseCode.ShouldBe(code);
        await Eventually.Holds(async () => (int)(await s.Get("/v1/status", s.Key)).Json!["sessions"]!, n => n == 1, "its session is gone");
    }

    [Fact]
    public async Task Pings_are_answered_between_fragments_and_a_close_is_answered()
    {
        using var live = await s.WebSocket(s.Token("mara"));
        await live.Next("current");
        await live.Write(RawWebSocket.Frame(0x01, """{"kind":"markRead","""u8));
        await live.Write(RawWebSocket.Frame(0x89, "are you there"u8));
        await live.Write(RawWebSocket.Frame(0x80, "\"all\":true}"u8));
        await live.Next("done");
        live.Pongs.ShouldBe(["are you there"]);
        await live.Write(RawWebSocket.Frame(0x88, [0x0F, 0xA1]));
        (await live.Next()).ShouldBeNull();
        live.CloseCode.ShouldBe(4001);
    }

    [Fact]
    public async Task Anothers_session_can_not_be_posted_to()
    {
        using var stream = await s.Events(s.Token("mara"));
        var session = (string)(await stream.Next("opened"))["session"]!;
        (await s.Post("/v1/live/" + session, s.Token("teo"), """{"kind":"markRead","all":true}""")).Problem.ShouldBe("unknown-session");
        (await s.Post("/v1/live/" + session, null, "{}")).Problem.ShouldBe("token-missing");
        (await s.Post("/v1/live/nonsense", s.Token("mara"), "{}")).Problem.ShouldBe("unknown-session");
        (await s.Post("/v1/live/" + session, s.Token("mara"), "[" + string.Join(',', Enumerable.Repeat("{}", 101)) + "]")).Problem.ShouldBe(
            "invalid-fields");
        var both = await s.Post("/v1/live/" + session, s.Token("mara"),
            """[{"kind":"markRead","all":true,"requestId":"a"},{"kind":"no","requestId":"b"}]""");
        both.Json!.AsArray().Select(a => $"{a!["kind"]} {a["requestId"]}").ShouldBe(["done a", "refused b"]);
    }

    [Fact]
    public async Task A_connection_cut_without_a_word_leaves_nothing_behind()
    {
        for (int i = 0; i < 20; i++)
        {
            var live = i % 2 == 0 ? (RawConnection)await s.WebSocket(s.Token("mara")) : await s.Events(s.Token("mara"));
            await live.Next("opened");
            live.Cut();
        }
        await Eventually.Holds(async () => (int)(await s.Get("/v1/status", s.Key)).Json!["sessions"]!, n => n == 1, "all are gone");
        (await s.Send("user:mara")).ShouldNotBeNull();
    }
}
