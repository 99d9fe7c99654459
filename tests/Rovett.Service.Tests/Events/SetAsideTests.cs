using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests.Events;

/// <summary>What rules could not do is set aside, and retried or dropped.</summary>
public sealed class SetAsideTests : IAsyncLifetime
{
    readonly TestClock clock = new();
    ServiceUnderTest service = null!;
    string mara = "";

    public async ValueTask InitializeAsync()
    {
        service = await ServiceUnderTest.Start(o => o.StrictAddresses = true, clock: clock);
        mara = service.Token("mara", "engineer");
        (await service.Call(HttpMethod.Put, "/v1/users/mara", service.Key, """{"roles":["engineer"]}""")).Status.ShouldBe(200);
        await service.Load(Rules);
    }

    public ValueTask DisposeAsync() => service.DisposeAsync();

    [Fact]
    public async Task A_failing_rule_sets_the_event_aside_and_the_others_apply()
    {
        await service.Load(Rules + """

              - name: Needs a berth
                event: engine.check.due
                to: ["role:engineer"]
                notification: { title: "at {{ data.berth }}" }
            """);

        var answer = await service.Publish(Check("e1"));

        answer.Json!["notifications"]!.AsArray().Count.ShouldBe(1);
        var aside = answer.Json["setAside"]!;
        ((string)aside["rules"]![0]!["rule"]!).ShouldBe("Needs a berth");
        ((string)aside["rules"]![0]!["reason"]!).ShouldStartWith("title: data.berth is missing or null");
        long number = (long)aside["number"]!;
        var listed = (await service.Get("/v1/set-aside", service.Key)).Json!;
        ((long)listed["count"]!, (string)listed["items"]![0]!["kind"]!, (string)listed["items"]![0]!["detail"]!["event"]!["id"]!)
            .ShouldBe((1, "event", "e1"));

        var again = await service.Post($"/v1/set-aside/{number}/retry", service.Key, "{}");
        ((bool)again.Json!["done"]!).ShouldBeFalse();
        ((string)again.Json["reason"]!).ShouldStartWith("Needs a berth: title: data.berth is missing or null");
        number = (long)again.Json["number"]!;
        var mended = await service.Post($"/v1/set-aside/{number}/retry", service.Key,
            """{"data":{"priority":"high","vessel":"v","check":"c","berth":"3"}}""");
        ((bool)mended.Json!["done"]!, mended.Json["notifications"]!.AsArray().Count).ShouldBe((true, 1));
        (await service.Titles(mara)).ShouldBe(["at 3", "turnstone: bow thruster due"]);
        var outcome = (await service.Get("/v1/events?source=/planning/1&id=e1", service.Key)).Json!["outcome"]!;
        ((bool)outcome["late"]!, outcome["notifications"]!.AsArray().Count, outcome["setAside"]).ShouldBe((true, 2, null));
        (await service.Get($"/v1/set-aside/{number}", service.Key)).Problem.ShouldBe("unknown-set-aside");
    }

    [Fact]
    public async Task What_is_set_aside_is_retried_or_dropped_in_bulk()
    {
        foreach (int i in Enumerable.Range(0, 5)) await service.Publish(Event($"e{i}", """{"crew":"none"}""", "sailing.delayed"));
        var numbers = (await service.Get("/v1/set-aside?limit=2", service.Key)).Json!["items"]!.AsArray().Select(i => (long)i!["number"]!);

        var dropped = await service.Post("/v1/set-aside/drop", service.Key, $$"""{"numbers":[{{string.Join(',', numbers)}},99]}""");
        var retried = await service.Post("/v1/set-aside/retry", service.Key, "{}");
        var rest = await service.Post("/v1/set-aside/drop", service.Key, "{}");

        ((int)dropped.Json!["dropped"]!, (int)retried.Json!["failed"]!, (int)rest.Json!["dropped"]!).ShouldBe((2, 3, 3));
        ((long)(await service.Get("/v1/set-aside", service.Key)).Json!["count"]!).ShouldBe(0);
    }

    [Fact]
    public async Task Status_shows_no_data_of_events_that_are_set_aside()
    {
        await service.Publish(Event("e1", """{"crew":"a secret"}""", "sailing.delayed"));

        var status = await service.Get("/v1/status", service.Key);

        ((string)status.Json!["setAside"]![0]!["kind"]!, status.Text.Contains("a secret", StringComparison.Ordinal)).ShouldBe(
            ("event", false));
    }

    [Fact]
    public async Task A_gathering_that_could_not_be_sent_is_retried_under_the_id_its_events_were_answered()
    {
        await service.Load("""
            rules:
              - name: Told of a delay
                event: sailing.delayed
                to: ["user:{{ data.to }}"]
                gather: { within: 10m }
                notification: { title: "{{ data.sailing }} is late" }
            """);
        var opened = await service.Publish(Event("e1", """{"to":"teo","sailing":"07:40"}""", "sailing.delayed"));
        var id = (string)opened.Json!["gathering"]![0]!["id"]!;
        clock.Advance(TimeSpan.FromMinutes(11));
        await Eventually.Holds(async () => (long)(await service.Get("/v1/set-aside", service.Key)).Json!["count"]!, n => n == 1,
            "the gathering to be set aside");
        (await service.Call(HttpMethod.Put, "/v1/users/teo", service.Key, """{"roles":["crew"]}""")).Status.ShouldBe(200);

        (await service.Post("/v1/set-aside/retry", service.Key, "{}")).Json!["done"]!.GetValue<int>().ShouldBe(1);

        var shown = (await service.Get($"/v1/notifications/{id}", service.Key)).Json!;
        ((string)shown["title"]!, (string)shown["events"]![0]!["id"]!).ShouldBe(("07:40 is late", "e1"));
    }

    [Fact]
    public async Task When_no_more_can_be_set_aside_events_that_would_be_are_refused_and_others_are_not()
    {
        var large = $$"""{"crew":1,"log":"{{new string('x', 60_000)}}"}""";
        int taken = 0, all = 0;
        foreach (int chunk in Enumerable.Range(0, 18))
        {
            var answer = await service.PublishLines(Enumerable.Range(0, 64).Select(i => Event($"{chunk}-{i}", large, "sailing.delayed")));
            taken += (int)answer.Json!["taken"]!;
            all += 64;
        }
        ((long)(await service.Get("/v1/set-aside?limit=1", service.Key)).Json!["count"]!).ShouldBe(taken);
        taken.ShouldBeInRange(64 * 1024 * 1024 / 60_300, all - 1);

        (await service.Publish(Event("fails", """{"crew":1}""", "sailing.delayed"))).Problem.ShouldBe("set-aside-full");
        (await service.Publish(Event("nobody", """{"crew":["nobody"],"sailing":"07:40"}""", "sailing.delayed"))).Problem
            .ShouldBe("set-aside-full");
        (await service.Publish(Check("e1"))).Status.ShouldBe(200);
        (await service.Post("/v1/set-aside/drop", service.Key, "{}")).Json!["dropped"]!.GetValue<int>().ShouldBe(taken);
        (await service.Publish(Event("fails", """{"crew":1}""", "sailing.delayed"))).Json!["setAside"].ShouldNotBeNull();
    }
}
