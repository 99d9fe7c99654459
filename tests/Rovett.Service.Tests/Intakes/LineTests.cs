using System.Net;
using System.Net.Sockets;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Intakes;

/// <summary>Events as lines: over TCP, a Unix socket and UDP.</summary>
public sealed class LineTests
{
    static readonly int Port = FreePort.Next();

    static string Tcp(string more = "") => $$"""
        intakes:
          - name: workers
            types: [engine.*]
            tcp: { listen: "127.0.0.1:{{Port}}"{{more}} }
        """;

    static async Task<LineClient> Connect(ServiceUnderTest service, string? key = null)
    {
        await service.Until("workers", i => (string)i["state"]! == "running", "it listens");
        var client = await LineClient.Open("127.0.0.1", Port);
        var answer = await client.Ask(key ?? service.Key);
        if (key is null) ((bool)answer["ready"]!).ShouldBeTrue();
        return client;
    }

    [Fact]
    public async Task Each_line_over_tcp_is_answered_in_order_once_it_is_on_disk()
    {
        await using var service = await IntakeGround.Start(Tcp());
        using var client = await Connect(service);
        await client.Send([.. Enumerable.Range(0, 120).Select(i => IntakeGround.Event($"e{i}", $"check {i}"))]);
        for (int i = 0; i < 120; i++)
        {
            var answer = (await client.Answer())!;
            ((string)answer["id"]!, answer["notifications"]!.AsArray().Count).ShouldBe(($"e{i}", 1));
        }
        (await service.Totals(service.Token("mara"))).Unread.ShouldBe(120);
        var again = await client.Ask(IntakeGround.Event("e7", "check 7"));
        ((bool)again["repeated"]!, again["notifications"]!.AsArray().Count).ShouldBe((true, 1));
        var state = await service.Intake("workers");
        ((long)state["events"]!, (long)state["repeated"]!, (long)state["notifications"]!, (string)state["kind"]!)
            .ShouldBe((121, 1, 120, "tcp"));
    }

    [Fact]
    public async Task A_line_that_is_no_event_is_answered_and_set_aside_and_those_behind_it_are_taken()
    {
        await using var service = await IntakeGround.Start(Tcp(", maxLine: 2000"));
        using var client = await Connect(service);
        await client.Send("not json", IntakeGround.Event("a", "x").Replace("\"1.0\"", "\"0.3\""), new string('x', 70_000),
            IntakeGround.Event("b", "x", "crew.changed"), IntakeGround.Event("c", "good"));
        var answers = new List<JsonNode>();
        for (int i = 0; i < 5; i++) answers.Add((await client.Answer())!);
        answers.Take(4).ShouldAllBe(a => a["setAside"] != null);
        ((string)answers[1]["reason"]!).ShouldContain("specversion");
        ((string)answers[2]["reason"]!).ShouldContain("longer than 2000 bytes");
        ((string)answers[3]["reason"]!).ShouldContain("'crew.changed' is not among those of this intake");
        answers[4]["notifications"]!.AsArray().Count.ShouldBe(1);
        (await service.Told(1)).ShouldBe(["good"]);

        // Each is there with its bytes, and an operator mends it.
        var items = (await service.Get("/v1/set-aside", service.Key)).Json!["items"]!.AsArray();
        items.Select(i => (string)i!["kind"]!).ShouldAllBe(k => k == "intake");
        ((string)items[0]!["detail"]!["text"]!, (string)items[0]!["detail"]!["intake"]!).ShouldBe(("not json", "workers"));
        long first = (long)items[0]!["number"]!;
        var still = (await service.Post($"/v1/set-aside/{first}/retry", service.Key, "{}")).Json!;
        ((bool)still["done"]!, (long)still["number"]!).ShouldBe((false, first));
        var mended = (await service.Post($"/v1/set-aside/{first}/retry", service.Key,
            $$"""{"event":{{IntakeGround.Event("mended", "mended")}}}""")).Json!;
        ((bool)mended["done"]!, mended["notifications"]!.AsArray().Count).ShouldBe((true, 1));
        (await service.Told(2)).ShouldBe(["good", "mended"]);
        (await service.Get($"/v1/set-aside/{first}", service.Key)).Problem.ShouldBe("unknown-set-aside");
        (await service.Post($"/v1/set-aside/{(long)items[1]!["number"]!}/retry", service.Key, """{"data":{}}""")).Status.ShouldBe(422);
    }

    [Fact]
    public async Task Tcp_needs_a_key_that_may_send_and_its_narrowing_holds()
    {
        await using var service = await IntakeGround.Start(Tcp());
        using (var stranger = await Connect(service, "rovett_key_unknown")) (await stranger.Answer()).ShouldBeNull();
        var narrow = (await service.Post("/v1/keys", service.Key,
            """{"name":"worker","scopes":["send"],"events":["engine.check.*"],"sources":["/planning/*"]}""")).Json!;
        using var client = await Connect(service, (string)narrow["key"]!);
        (await client.Ask(IntakeGround.Event("1", "due")))["notifications"]!.AsArray().Count.ShouldBe(1);
        ((string)(await client.Ask(IntakeGround.Event("2", "hot", "engine.alarm")))["reason"]!).ShouldContain("may publish");
        (await service.Call(HttpMethod.Delete, $"/v1/keys/{narrow["id"]}", service.Key)).Status.ShouldBe(204);
        ((string)(await client.Ask(IntakeGround.Event("3", "late")))["problem"]!["type"]!).ShouldEndWith("api-key-revoked");
        (await client.Answer()).ShouldBeNull();
    }

    [Fact]
    public async Task Data_alone_becomes_an_event_by_the_shape_of_the_intake()
    {
        var path = Path.Combine(Directory.CreateTempSubdirectory("rovett-lines-").FullName, "lines.sock");
        await using var service = await IntakeGround.Start($$$"""
            intakes:
              - name: scripts
                unix:
                  path: {{{path}}}
                  lines: data
                  event:
                    type: engine.report
                    source: "/scripts/{{ data.host }}"
                    id: "{{ data.run }}"
                    data: { text: "{{ data.host }}: {{ data.hours }} h", hours: "{{ data.hours }}" }
            """);
        await service.Until("scripts", i => (string)i["state"]! == "running", "it listens");
        using var client = await LineClient.Open(path);
        ((string)(await client.Ask("""{"run":"r1","host":"planning-1","hours":7.50}"""))["id"]!).ShouldBe("r1");
        ((string)(await client.Ask("""{"host":"planning-1"}"""))["reason"]!).ShouldContain("data.run is missing");
        (await service.Told(1)).ShouldBe(["planning-1: 7.50 h"]);
        (File.GetUnixFileMode(path) & (UnixFileMode.OtherRead | UnixFileMode.OtherWrite)).ShouldBe(UnixFileMode.None);
    }

    [Fact]
    public async Task Plain_text_over_udp_becomes_events_and_what_does_not_match_is_counted_and_set_aside()
    {
        int port = FreePort.Next();
        await using var service = await IntakeGround.Start($$$"""
            intakes:
              - name: bilges
                udp:
                  listen: "127.0.0.1:{{{port}}}"
                  lines: text
                  match: '^(?<vessel>[a-z]+) bilge (?<level>\d+)$'
                  event:
                    type: bilge.level
                    source: /sensors/bilge
                    subject: "vessel/{{ vessel }}"
                    data: { text: "{{ vessel }} {{ level | plus: 1 }}", level: "{{ level }}" }
            """);
        await service.Until("bilges", i => (string)i["state"]! == "running", "it listens");
        using var sender = new UdpClient();
        var to = new IPEndPoint(IPAddress.Loopback, port);
        await sender.SendAsync(Encoding.UTF8.GetBytes("turnstone bilge 41\nheron bilge 7\n"), to);
        await sender.SendAsync(Encoding.UTF8.GetBytes("?????"), to);
        await sender.SendAsync(Encoding.UTF8.GetBytes("plover bilge 12"), to);
        (await service.Told(3)).ShouldBe(["turnstone 42", "heron 8", "plover 13"]);
        var state = await service.Until("bilges", i => (long)i["setAside"]! == 1, "the bad line is counted");
        ((string)state["lastReason"]!).ShouldContain("does not match the expression");
        ((string)(await service.Get("/v1/set-aside", service.Key)).Json!["items"]![0]!["detail"]!["text"]!).ShouldBe("?????");
    }

    [Fact]
    public async Task Paused_it_takes_nothing_across_a_restart_until_it_is_resumed()
    {
        await using var service = await IntakeGround.Start(Tcp());
        using (var client = await Connect(service)) (await client.Ask(IntakeGround.Event("1", "before")))["id"].ShouldNotBeNull();
        (await service.Post("/v1/intakes/workers/pause", service.Key, "")).Status.ShouldBe(200);
        await service.Until("workers", i => (string)i["state"]! == "paused", "it is paused");
        await service.Restart();
        await service.Until("workers", i => (string)i["state"]! == "paused", "it is still paused");
        await Should.ThrowAsync<SocketException>(() => LineClient.Open("127.0.0.1", Port));
        (await service.Post("/v1/intakes/workers/resume", service.Key, "")).Status.ShouldBe(200);
        using (var client = await Connect(service)) (await client.Ask(IntakeGround.Event("2", "after")))["id"].ShouldNotBeNull();
        (await service.Told(2)).ShouldBe(["before", "after"]);
        var test = (await service.Post("/v1/intakes/workers/test", service.Key, "")).Json!;
        ((bool)test["works"]!, test["found"]!.AsArray().Count).ShouldBe((true, 2));
        (await service.Post("/v1/intakes/nobody/pause", service.Key, "")).Problem.ShouldBe("unknown-intake");
        var acts = (await service.Get("/v1/audit", service.Key)).Json!["acts"]!.AsArray().Select(a => $"{a!["act"]} {a["about"]}");
        acts.ShouldContain("intake.paused workers");
    }
}
