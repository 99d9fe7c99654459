using System.Diagnostics;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests.Events;

/// <summary>Publishing by the .NET client against the real service.</summary>
public sealed class EventClientTests : IAsyncLifetime
{
    ServiceUnderTest service = null!;
    RovettEvents events = null!;

    public async ValueTask InitializeAsync()
    {
        service = await ServiceUnderTest.Start();
        await service.Load(Rules);
        events = new RovettEvents(new RovettSendOptions { Url = service.Url, Key = service.Key });
    }

    public ValueTask DisposeAsync()
    {
        events.Dispose();
        return service.DisposeAsync();
    }

    static JsonNode Check(string vessel) => new JsonObject { ["priority"] = "high", ["vessel"] = vessel, ["check"] = "c" };

    [Fact]
    public async Task An_event_is_published_with_all_its_members()
    {
        using var activity = new Activity("test").SetIdFormat(ActivityIdFormat.W3C).Start();
        var happened = new BackendEvent("/planning/1", "engine.check.due", "vessel/turnstone", Check("turnstone"))
        { Time = DateTimeOffset.UtcNow, Extensions = new Dictionary<string, string> { ["actor"] = "mara" } };

        var published = await events.Publish(happened);
        var again = await events.Publish(happened);

        (published.Matched[0], published.IsRepeated, again.IsRepeated, again.Notifications[0])
            .ShouldBe(("Engine check due", false, true, published.Notifications[0]));
        var shown = (await service.Get($"/v1/events?source=/planning/1&id={happened.Id}", service.Key)).Json!;
        ((string)shown["subject"]!, (string)shown["trace"]!).ShouldBe(("vessel/turnstone", activity.Id));
        var sent = (await service.Get($"/v1/notifications/{published.Notifications[0]}", service.Key)).Json!;
        ((string)sent["title"]!, (string)sent["except"]![0]!).ShouldBe(("turnstone: c due", "user:mara"));
    }

    [Fact]
    public async Task Many_are_published_in_order_with_a_result_for_each()
    {
        var outcomes = await events.PublishMany(Enumerable.Range(0, 1500).Select(i => i == 3
            ? new BackendEvent("not a uri", "engine.check.due")
            : new BackendEvent("/planning/1", i % 2 == 0 ? "engine.check.due" : "other", null, Check($"v{i}"))));

        outcomes.Count.ShouldBe(1500);
        outcomes.Count(o => o.Published?.Notifications.Count == 1).ShouldBe(750);
        outcomes[3].Error!.Fields[0].Field.ShouldBe("source");
        outcomes[3].Event.Source.ShouldBe("not a uri");
    }

    [Fact]
    public async Task When_retries_end_in_a_rate_limit_the_results_name_what_was_taken()
    {
        (await service.Call(HttpMethod.Patch, "/v1/settings", service.Key, """{"limits":{"sendsPerSecond":20}}""")).Status.ShouldBe(200);
        using var once = new RovettEvents(new RovettSendOptions { Url = service.Url, Key = service.Key, Retries = 0 });
        JsonObject Crew() => new()
        {
            ["sailing"] = "07:40",
            ["crew"] = new JsonArray([.. Enumerable.Range(0, 100).Select(i => (JsonNode)$"u{i}")])
        };

        var outcomes = await once.PublishMany(Enumerable.Range(0, 3).Select(_ => new BackendEvent("/a", "sailing.delayed", null, Crew())));

        outcomes.Select(o => (o.Published?.Notifications.Count, o.Error?.Status)).ShouldBe([(100, null), (null, 429), (null, 429)]);
    }

    [Fact]
    public async Task A_refusal_names_the_field()
    {
        var refused = await Should.ThrowAsync<RovettRefusedException>(() => events.Publish("/x", ""));

        refused.Fields.ShouldHaveSingleItem().Field.ShouldBe("type");
    }
}
