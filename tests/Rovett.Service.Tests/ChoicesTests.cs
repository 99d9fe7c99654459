using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests;

/// <summary>What people choose: mutes and quiet hours, and what they are told whatever they chose.</summary>
public sealed class ChoicesTests : IAsyncLifetime
{
    const string Night = """{"timeZone":"Europe/Berlin","hours":[{"from":"22:00","to":"06:30"}]}""";
    readonly TestClock clock = new();
    ServiceUnderTest service = null!;
    string mara = "";

    public async ValueTask InitializeAsync()
    {
        service = await ServiceUnderTest.Start(clock: clock);
        mara = TestTokens.Make(service.Secret, "mara", ["engineer"], TimeSpan.FromDays(3));
        await service.Get("/v1/inbox/totals", mara);
    }

    public ValueTask DisposeAsync() => service.DisposeAsync();

    Task<Answer> Put(string body, params (string, string)[] headers) =>
        service.Call(HttpMethod.Put, "/v1/choices", mara, body, headers);

    [Fact]
    public async Task Choices_are_replaced_as_a_whole_and_mutes_keep_their_start()
    {
        var empty = (await service.Get("/v1/choices", mara)).Json!;
        ((long)empty["rev"]!, empty["mutes"]!.AsArray().Count, empty["quiet"]).ShouldBe((0, 0, null));

        var first = await Put($$"""{"mutes":[{"type":"weather.warning"},{"subject":"vessel/turnstone"}],"quiet":{{Night}}}""");
        first.Status.ShouldBe(200, first.Text);
        first.Json!["quiet"]!.ToJsonString().ShouldBe(Night);
        first.Json["quietSpans"]!.AsArray().Count.ShouldBeInRange(2, 3);
        var since = (string)first.Json["mutes"]![0]!["since"]!;
        clock.Advance(TimeSpan.FromMinutes(1));

        var second = await Put("""{"mutes":[{"type":"weather.warning"}]}""");
        ((string)second.Json!["mutes"]!.AsArray().Single()!["since"]!, second.Json["quiet"]).ShouldBe((since, null));
        (await service.Get("/v1/mutes", mara)).Json!["mutes"]!.AsArray().Count.ShouldBe(1);
        var rev = (long)second.Json["rev"]!;
        ((long)(await Put("""{"mutes":[{"type":"weather.warning"}]}""")).Json!["rev"]!).ShouldBe(rev);
    }

    [Fact]
    public async Task Of_two_devices_that_change_them_the_second_is_told()
    {
        await Put("""{"mutes":[{"type":"a"}]}""");
        var read = await service.Get("/v1/choices", mara);
        var tag = read.Headers.ETag!.Tag;
        // Reading is no choice: it does not get in the way.
        await service.Send("user:mara");
        await service.Post("/v1/inbox/marks", mara, """{"read":{"all":true}}""");
        (await Put("""{"mutes":[{"type":"b"}]}""", ("If-Match", tag))).Status.ShouldBe(200);
        var late = await Put("""{"mutes":[{"type":"c"}]}""", ("If-Match", tag));
        (late.Status, late.Problem).ShouldBe((412, "other-version"));
        (await service.Get("/v1/choices", mara)).Json!["mutes"]!.AsArray().Select(m => (string)m!["type"]!).ShouldBe(["b"]);
    }

    [Fact]
    public async Task Every_device_is_told_at_once_and_when_it_opens_and_daily()
    {
        using var desk = await service.WebSocket(mara);
        await desk.Next("current");
        await Put($$"""{"mutes":[{"type":"weather.warning"}],"quiet":{{Night}}}""");
        var told = await desk.Next("choices");
        ((string)told["mutes"]![0]!["type"]!, told["quiet"]!.ToJsonString()).ShouldBe(("weather.warning", Night));
        var begins = (string)told["quietSpans"]![0]!["from"]!;

        using (var phone = await service.WebSocket(mara))
        {
            ((string)(await phone.Next())!["kind"]!).ShouldBe("opened");
            (await phone.Next())!["quiet"]!.ToJsonString().ShouldBe(Night);
        }
        clock.Advance(TimeSpan.FromHours(25));
        var again = await desk.Next("choices");
        string.CompareOrdinal((string)again["quietSpans"]![0]!["from"]!, begins).ShouldBePositive();

        await service.Call(HttpMethod.Delete, "/v1/mutes?type=weather.warning", mara);
        (await desk.Next("choices"))["mutes"]!.AsArray().ShouldBeEmpty();
    }

    [Theory]
    [InlineData("""{"mutes":[{"type":"a","subject":"b"}]}""", "mutes[0]")]
    [InlineData("""{"mutes":[{}]}""", "mutes[0]")]
    [InlineData("""{"mutes":"a"}""", "mutes")]
    [InlineData("""{"quiet":{"timeZone":"Nowhere/At","hours":[{"from":"22:00","to":"06:00"}]}}""", "quiet.timeZone")]
    [InlineData("""{"colour":"red"}""", "colour")]
    public async Task What_cannot_be_chosen_is_refused_by_its_field(string body, string field)
    {
        var answer = await Put(body);
        answer.Status.ShouldBe(422, answer.Text);
        answer.Json!["errors"]!.AsArray().Select(e => (string)e!["field"]!).ShouldBe([field]);
    }

    [Fact]
    public async Task Choices_survive_a_restart_and_go_with_the_person()
    {
        await Put($$"""{"quiet":{{Night}}}""");
        await service.Restart();
        (await service.Get("/v1/choices", mara)).Json!["quiet"]!.ToJsonString().ShouldBe(Night);
        (await service.Call(HttpMethod.Delete, "/v1/users/mara", service.Key)).Status.ShouldBeInRange(200, 299);
        var anew = service.Token("mara", "engineer");
        (await service.Get("/v1/choices", anew)).Json!["quiet"].ShouldBeNull();
    }

    [Fact]
    public async Task What_is_always_told_cannot_be_muted_live_or_while_away()
    {
        using var desk = await service.WebSocket(mara);
        await desk.Next("current");
        await Put("""{"mutes":[{"type":"engine.alarm"},{"subject":"vessel/kittiwake"}]}""");
        var ivo = service.Token("ivo", "bridge");
        await service.Get("/v1/inbox/totals", ivo);
        await service.Call(HttpMethod.Put, "/v1/choices", ivo, """{"mutes":[{"type":"engine.alarm"},{"subject":"vessel/kittiwake"}]}""");
        async Task Send(string title, bool always) => (await service.Post("/v1/notifications", service.Key, $$"""
            {"to":["role:engineer","role:bridge"],"type":"engine.alarm","subject":"vessel/kittiwake","title":"{{title}}","always":{{(always ? "true" : "false")}}}
            """)).Status.ShouldBe(201);
        await Send("muted", false);
        await Send("told", true);
        var came = await desk.Next("notification");
        ((string)came["title"]!, (bool)came["always"]!, (long)came["unread"]!).ShouldBe(("told", true, 1));

        await service.Restart();
        await Send("muted", false);
        await Send("told", true);
        (await service.Totals(ivo)).Unread.ShouldBe(2);
        var items = (await service.Get("/v1/inbox", ivo)).Json!["items"]!.AsArray();
        items.Select(i => ((string)i!["title"]!, i["state"]!["muted"] is not null, i["always"] is not null))
            .ShouldBe([("told", false, true), ("muted", true, false), ("told", false, true), ("muted", true, false)]);
    }

    [Fact]
    public async Task A_rule_can_say_that_people_are_always_told()
    {
        await service.Load("""
            rules:
              - { name: Alarm, event: engine.alarm, to: ["role:engineer"], notification: { title: "Alarm", always: true } }
            """);
        await Put("""{"mutes":[{"type":"engine.alarm"}]}""");
        await service.Publish(Event("1", "{}", "engine.alarm"));
        (await service.Totals(mara)).Unread.ShouldBe(1);
    }

    [Fact]
    public async Task Quiet_hours_change_neither_counts_nor_deadlines()
    {
        await Put("""{"quiet":{"timeZone":"UTC","hours":[{"from":"00:00","to":"24:00"}]}}""");
        await service.Post("/v1/notifications", service.Key, """
            {"to":["user:mara"],"type":"t","title":"T","deadlines":[{"within":"1m","otherwise":{"to":["user:mara"],"type":"late","title":"Late"}}]}
            """);
        (await service.Totals(mara)).Unread.ShouldBe(1);
        clock.Advance(TimeSpan.FromMinutes(2));
        await Eventually.Holds(() => service.Totals(mara), t => t.Unread == 2, "the deadline's notification");
    }
}
