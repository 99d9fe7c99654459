using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Sessions as the backend sees them.</summary>
public sealed class SessionTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start();

    public async ValueTask DisposeAsync() => await s.DisposeAsync();

    [Fact]
    public async Task Each_says_how_it_is_connected_what_was_tried_before_its_window_and_where_it_is()
    {
        using var mara = await s.Events(s.Token("mara"), $"?device=desk&tried=websocket:%20the%20upgrade%20failed&tried={new string('x', 300)}");
        var opened = await mara.Next("opened");
        await mara.Next("current");
        await s.Send("user:mara", "Bow thruster check due");
        var came = await mara.Next("notification");
        // With another node serving the space, the count arrives there a moment later.
        var session = await Eventually.Holds(async () => (await s.Get("/v1/sessions", s.Key)).Json!["sessions"]!.AsArray().Single()!,
            found => (int)found["outstanding"]! == 1, "one to be outstanding");
        session["tried"]!.AsArray().Select(t => (string)t!).ShouldBe(["websocket: the upgrade failed", new string('x', 100)]);
        ((string)session["transport"]!, (int)session["window"]!, (int)session["outstanding"]!)
            .ShouldBe(("sse", (int)opened["window"]!, 1));
        ((string)session["cursor"]!).ShouldBe((string)came["cursor"]!);
    }

    [Fact]
    public async Task A_hint_that_can_not_be_shown_keeps_no_device_out()
    {
        using var mara = await s.Events(s.Token("mara"), "?tried=a&tried=b%0Ac&tried=&tried=%EF%BF%BF&tried=e&tried=f");
        await mara.Next("current");
        var session = (await s.Get("/v1/sessions", s.Key)).Json!["sessions"]!.AsArray().Single()!;
        session["tried"]!.AsArray().Select(t => (string)t!).ShouldBe(["a"]);
    }

    [Fact]
    public async Task One_that_is_ended_is_told_to_come_back_and_goes_on_where_it_was()
    {
        using var desk = await s.WebSocket(s.Token("mara"), "?device=desk");
        using var phone = await s.WebSocket(s.Token("mara"), "?device=phone");
        await phone.Next("current");
        var session = (string)(await desk.Next("opened"))["session"]!;
        var cursor = (string)(await desk.Next("current"))["cursor"]!;
        (await s.Call(HttpMethod.Delete, $"/v1/sessions/{session}", s.Key)).Status.ShouldBe(204);
        var ending = await desk.Next("ending");
        ((string)ending["reason"]!, (int)ending["comeBackWithinMs"]!).ShouldBe(("ended", 1000));
        await Eventually.Holds(async () => (await s.Get("/v1/sessions", s.Key)).Json!["sessions"]!.AsArray().Count, n => n == 1,
            "the phone's alone is left");
        var gone = await s.Call(HttpMethod.Delete, $"/v1/sessions/{session}", s.Key);
        (gone.Status, (string)gone.Json!["type"]!).ShouldBe((404, "urn:rovett:problem:unknown-session"));
        (await s.Call(HttpMethod.Delete, $"/v1/sessions/{session}", s.Token("mara"))).Status.ShouldBe(401);
        await s.Send("user:mara", "Meanwhile");
        using var again = await s.WebSocket(s.Token("mara"), $"?device=desk&after={cursor}");
        ((string)(await again.Next("notification"))["title"]!).ShouldBe("Meanwhile");
        var audited = (await s.Get("/v1/audit", s.Key)).Json!["acts"]!.AsArray().Select(a => (string)a!["act"]!);
        audited.ShouldContain("session.ended");
    }
}
