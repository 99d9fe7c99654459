using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>What the meters count is summed up over time and kept.</summary>
public sealed class MetersTests : IAsyncLifetime
{
    readonly TestClock clock = new();
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start(clock: clock);
    public ValueTask DisposeAsync() => s.DisposeAsync();

    async Task<JsonNode> Meters(string over, string path = "/v1/meters", string? key = null)
    {
        var answer = await s.Get($"{path}?over={over}", key ?? s.Key);
        answer.Status.ShouldBe(200, answer.Text);
        return answer.Json!;
    }

    static long Sum(JsonNode meters, string of) => meters["steps"]!.AsArray().Sum(step => (long)step![of]!);

    [Fact]
    public async Task What_is_sent_received_and_refused_is_counted_in_every_window()
    {
        using var mara = await s.WebSocket(s.Token("mara", "engineer"));
        await mara.Next("opened");
        for (int i = 0; i < 3; i++) await s.Send("role:engineer");
        var got = await mara.Notifications(3);
        await mara.Text($$"""{"kind":"ack","upTo":"{{got[^1]["cursor"]}}"}""");
        (await s.Post("/v1/notifications", s.Key, """{"to":["role:engineer"]}""")).Status.ShouldBe(422);
        (await s.Get("/v1/status", "rovett_key_of_nobody")).Status.ShouldBe(401);

        var meters = await Eventually.Holds(() => Meters("15m"), m => Sum(m, "received") == 3, "three receipts are counted");

        meters["steps"]!.AsArray().Count.ShouldBe(90);
        Sum(meters, "sends").ShouldBe(3);
        Sum(meters, "dispatched").ShouldBe(3);
        Sum(meters, "refused").ShouldBe(2);
        Sum(meters, "faults").ShouldBe(0);
        var last = meters["steps"]!.AsArray().Last(step => step!["sessions"]!.AsObject().Count > 0)!;
        last["sessions"]!.ToJsonString().ShouldBe("""{"websocket":1}""");
        ((double)meters["delayP50"]!).ShouldBeInRange(0.0001, 60);
        ((double)meters["delayP99"]!).ShouldBeGreaterThanOrEqualTo((double)meters["delayP50"]!);
        meters["changes"]!.AsArray().Select(c => (string)c!["what"]!).ShouldContain("service.started");
        foreach (var (over, steps, seconds) in new[] { ("1h", 60, 60), ("1d", 96, 900), ("7d", 168, 3600) })
        {
            var longer = await Meters(over);
            longer["steps"]!.AsArray().Count.ShouldBe(steps);
            ((int)longer["stepSeconds"]!).ShouldBe(seconds);
            Sum(longer, "sends").ShouldBe(3, over);
        }
    }

    [Fact]
    public async Task Counts_stay_over_a_restart_and_move_on_with_the_time()
    {
        await s.Send("everyone");
        await s.Send("everyone");
        await s.Restart();
        await s.Send("everyone");

        var now = await Meters("15m");
        Sum(now, "sends").ShouldBe(3);
        now["changes"]!.AsArray().Count(c => (string)c!["what"]! == "service.started").ShouldBe(2);

        clock.Advance(TimeSpan.FromMinutes(20));
        await s.Send("everyone");
        Sum(await Meters("15m"), "sends").ShouldBe(1);
        Sum(await Meters("1h"), "sends").ShouldBe(4);
        clock.Advance(TimeSpan.FromHours(30));
        Sum(await Meters("1d"), "sends").ShouldBe(0);
        Sum(await Meters("7d"), "sends").ShouldBe(4);
        await s.Restart();
        Sum(await Meters("7d"), "sends").ShouldBe(4);
    }

    [Fact]
    public async Task Spaces_are_counted_apart_and_a_new_one_of_an_old_name_begins_at_none()
    {
        var made = (await s.Post("/v1/spaces", s.Key, """{"name":"harbour"}""")).Json!;
        var key = (string)made["credentials"]!["adminKey"]!;
        (await s.Post("/s/harbour/v1/notifications", key, """{"to":["everyone"],"type":"t","title":"Tide"}""")).Status.ShouldBe(201);
        Sum(await Meters("15m"), "sends").ShouldBe(0);
        Sum(await Meters("15m", "/s/harbour/v1/meters", key), "sends").ShouldBe(1);

        (await s.Call(HttpMethod.Delete, "/v1/spaces/harbour", s.Key)).Status.ShouldBe(200);
        clock.Advance(TimeSpan.FromMinutes(2));
        made = (await s.Post("/v1/spaces", s.Key, """{"name":"harbour"}""")).Json!;
        key = (string)made["credentials"]!["adminKey"]!;
        Sum(await Meters("1h", "/s/harbour/v1/meters", key), "sends").ShouldBe(0);
    }

    [Fact]
    public async Task A_receipt_of_a_device_that_was_away_does_not_count_as_slow()
    {
        await s.Get("/v1/inbox/totals", s.Token("mara"));
        await s.Send("user:mara");
        clock.Advance(TimeSpan.FromMinutes(5));
        using var mara = await s.WebSocket(s.Token("mara"));
        var got = await mara.Notifications(1);
        await mara.Text($$"""{"kind":"ack","upTo":"{{got[0]["cursor"]}}"}""");

        var meters = await Eventually.Holds(() => Meters("15m"), m => Sum(m, "received") == 1, "the receipt is counted");
        meters["delayP99"].ShouldBeNull();
    }

    [Fact]
    public async Task A_window_that_is_not_kept_is_refused()
    {
        var refused = await s.Get("/v1/meters?over=2h", s.Key);
        refused.Status.ShouldBe(422);
        refused.Text.ShouldContain("over");
    }
}
