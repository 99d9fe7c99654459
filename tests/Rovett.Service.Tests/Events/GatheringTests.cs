using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests.Events;

/// <summary>Gathering: at most one notification for each address and subject within a time.</summary>
public sealed class GatheringTests : IAsyncLifetime
{
    readonly TestClock clock = new();
    ServiceUnderTest service = null!;
    string mara = "", teo = "";

    public async ValueTask InitializeAsync()
    {
        service = await ServiceUnderTest.Start(clock: clock);
        mara = service.Token("mara", "crew");
        teo = service.Token("teo", "crew");
        await service.Get("/v1/totals", mara);
        await service.Get("/v1/totals", teo);
        await service.Load(Gathers(""));
    }

    public ValueTask DisposeAsync() => service.DisposeAsync();

    static string Gathers(string more, string to = "[\"role:crew\"]") => $$$"""
        rules:
          - name: Crew told of a delay
            event: sailing.delayed
            to: {{{to}}}
            except: ["user:{{ actor }}"]
            gather: { within: 10m, title: "{{ count }} changes to {{ data.sailing }}"{{{more}}} }
            notification: { title: "{{ data.sailing }} is {{ data.minutes }} minutes late" }
        """;

    Task<Answer> Delay(string id, int minutes, string sailing = "07:40", string more = "") =>
        service.Publish(Event(id, $$"""{"sailing":"{{sailing}}","minutes":{{minutes}}}""", "sailing.delayed", "/traffic",
            $",\"subject\":\"sailing/{sailing}\"" + more));

    [Fact]
    public async Task Events_are_gathered_into_one_that_counts_once_when_it_closes()
    {
        var first = await Delay("1", 5);
        var second = await Delay("2", 10);
        await Delay("3", 20);
        await Delay("4", 5, "08:10");

        var id = (string)first.Json!["gathering"]![0]!["id"]!;
        ((string)second.Json!["gathering"]![0]!["id"]!, first.Json["notifications"]!.AsArray().Count).ShouldBe((id, 0));
        (await service.Totals(mara)).Unread.ShouldBe(0);
        ((bool)(await Delay("2", 10)).Json!["repeated"]!).ShouldBeTrue();
        clock.Advance(TimeSpan.FromMinutes(10));
        await Eventually.Holds(() => service.Totals(mara), t => t.Unread == 2, "both gatherings to close");

        (await service.Titles(mara)).ShouldBe(["08:10 is 5 minutes late", "3 changes to 07:40"], true);
        var shown = (await service.Get($"/v1/notifications/{id}", service.Key)).Json!;
        shown["events"]!.AsArray().Select(e => (string)e!["id"]!).ShouldBe(["1", "2", "3"], true);
    }

    [Fact]
    public async Task It_counts_once_for_who_loses_a_topic_right_after_it_closes()
    {
        await Delay("1", 5);
        (await service.Post("/v1/grants", service.Key, """{"user":"mara","topic":"berth/3","may":["follow"],"for":"11m"}""")).Status
            .ShouldBe(201);
        (await service.Post("/v1/follows", mara, """{"topic":"berth/3"}""")).Status.ShouldBe(200);
        using var live = await service.WebSocket(mara);
        await live.Next("current");

        clock.Advance(TimeSpan.FromMinutes(12)); // both are due, and carried out together

        ((long)(await live.Next("notification"))["unread"]!).ShouldBe(1);
        (await service.Totals(mara)).Unread.ShouldBe(1);
    }

    [Fact]
    public async Task A_gathering_survives_a_restart_and_loading_rules()
    {
        await Delay("1", 5);
        await service.Load("rules: []");
        await service.Restart();
        clock.Advance(TimeSpan.FromMinutes(10));

        await Eventually.Holds(() => service.Totals(mara), t => t.Unread == 1, "the gathering to close");
        (await service.Titles(mara)).ShouldBe(["07:40 is 5 minutes late"]);
    }

    [Fact]
    public async Task Who_is_excepted_by_one_of_its_events_stays_excepted()
    {
        await Delay("1", 5, more: ",\"actor\":\"teo\"");
        await Delay("2", 10, more: ",\"actor\":\"ivo\"");
        clock.Advance(TimeSpan.FromMinutes(10));

        await Eventually.Holds(() => service.Totals(mara), t => t.Unread == 1, "the gathering to close");
        (await service.Totals(teo)).Unread.ShouldBe(0);
    }

    [Fact]
    public async Task The_first_can_be_sent_at_once_and_is_replaced_by_all()
    {
        await service.Load(Gathers(", first: now"));
        var first = await Delay("1", 5);
        (await service.Totals(mara)).Unread.ShouldBe(1);
        await Delay("2", 10);
        await Delay("3", 5, "08:10");
        first.Json!["notifications"]!.AsArray().Count.ShouldBe(1);
        (await service.Titles(mara)).ShouldBe(["08:10 is 5 minutes late", "07:40 is 5 minutes late"]);
        clock.Advance(TimeSpan.FromMinutes(10));

        await Eventually.Holds(() => service.Titles(mara), t => t.Contains("2 changes to 07:40"), "the gathering to close");
        (await service.Titles(mara)).ShouldBe(["2 changes to 07:40", "08:10 is 5 minutes late"]);
        (await service.Totals(mara)).Unread.ShouldBe(2);
    }

    [Fact]
    public async Task Withdrawing_its_id_drops_it_and_so_does_erasing_the_person_it_is_to()
    {
        var first = await Delay("1", 5);
        var id = (string)first.Json!["gathering"]![0]!["id"]!;
        var withdrawn = await service.Call(HttpMethod.Delete, $"/v1/notifications/{id}", service.Key);
        ((string)withdrawn.Json!["state"]!, (bool)withdrawn.Json["changed"]!).ShouldBe(("withdrawn", true));
        await service.Load(Gathers("", "[\"user:teo\"]"));
        (await service.Call(HttpMethod.Put, "/v1/users/teo", service.Key, """{"roles":["crew"]}""")).Status.ShouldBe(200);
        await Delay("2", 5);
        (await service.Call(HttpMethod.Delete, "/v1/users/teo", service.Key)).Status.ShouldBe(200);
        await Eventually.Holds(async () => (long)(await service.Get("/v1/status", service.Key)).Json!["erasures"]!, n => n == 0,
            "the erasure");
        clock.Advance(TimeSpan.FromMinutes(11));
        await service.Load(Gathers(""));
        await Delay("3", 7);
        clock.Advance(TimeSpan.FromMinutes(11));

        await Eventually.Holds(() => service.Totals(mara), t => t.Unread == 1, "the last gathering to close");
        (await service.Titles(mara)).ShouldBe(["07:40 is 7 minutes late"]);
        (await service.Get("/v1/users/teo", service.Key)).Status.ShouldBe(404);
    }

    [Fact]
    public async Task It_closes_at_a_thousand_events()
    {
        await service.PublishLines(Enumerable.Range(0, 1000).Select(i =>
            Event($"e{i}", $$"""{"sailing":"07:40","minutes":{{i}}}""", "sailing.delayed", "/traffic", ",\"subject\":\"s\"")));

        await Eventually.Holds(() => service.Totals(mara), t => t.Unread == 1, "the gathering to close");
        (await service.Titles(mara)).ShouldBe(["1000 changes to 07:40"]);
    }

    [Fact]
    public async Task An_event_that_fails_for_the_count_is_set_aside_and_the_draft_stays()
    {
        await Delay("1", 5);
        await Delay("2", 10);
        var failed = await service.Publish(Event("3", """{"sailing":null,"minutes":1}""", "sailing.delayed", "/traffic",
            ",\"subject\":\"sailing/07:40\""));
        failed.Json!["setAside"]!["rules"]!.AsArray().Count.ShouldBe(1);
        clock.Advance(TimeSpan.FromMinutes(10));

        await Eventually.Holds(() => service.Totals(mara), t => t.Unread == 1, "the gathering to close");
        (await service.Titles(mara)).ShouldBe(["2 changes to 07:40"]);
    }
}
