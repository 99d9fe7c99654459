using System.Diagnostics;
using System.Text.Json.Nodes;
using Microsoft.Extensions.DependencyInjection;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Sending by the .NET client against the real service: typed, repeated until it is taken, stored once.</summary>
public sealed class SenderTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start();
    public ValueTask DisposeAsync() => s.DisposeAsync();

    RovettSender Sender(Uri? url = null, int retries = 8) =>
        new(new RovettSendOptions { Url = url ?? s.Url, Key = s.Key, Retries = retries });

    async Task<List<JsonNode>> Inbox(string user, params string[] roles)
    {
        var items = new List<JsonNode>();
        for (var path = "/v1/inbox?limit=100"; path is not null;)
        {
            using var client = new RovettClient(s.Url, s.Token(user, roles));
            var page = await client.Call(HttpMethod.Get, path);
            items.AddRange(page["items"]!.AsArray().Select(i => i!));
            path = (string?)page["next"];
        }
        return items;
    }

    [Fact]
    public async Task Every_member_arrives_as_it_was_meant()
    {
        await s.Get("/v1/inbox/totals", s.Token("mara", "engineer"));
        using var sender = Sender();
        var sent = await sender.Send(new Notification("engine.check.due", "Turnstone: bow thruster check due", "role:engineer")
        {
            Except = ["user:ivo"],
            Subject = "vessel/turnstone",
            Body = "Before the next sailing.",
            Link = "/vessels/turnstone/checks/91",
            Urgency = Urgency.VeryLow,
            Ttl = TimeSpan.FromHours(2),
            Slot = "check/91",
            TakeableFor = TimeSpan.FromMinutes(30),
            Deadlines = [new Deadline(TimeSpan.FromMinutes(5), "taken",
                Otherwise: [new Notification("engine.check.late", "Nobody has taken it", "role:bridge")])],
            Data = new JsonObject { ["checkId"] = 91 },
        });
        (sent.Repeated, sent.Position, sent.Reach.Single().Address, sent.Reach.Single().Stored, sent.Reach.Single().Known).ShouldBe(
            (false, sent.Position, "role:engineer", 1, true));
        var item = (await Inbox("mara", "engineer")).Single();
        ((string)item["id"]!, (string)item["urgency"]!, (string)item["subject"]!, (string)item["body"]!, (string)item["link"]!,
            (int)item["data"]!["checkId"]!).ShouldBe(
            (sent.Id!, "very-low", "vessel/turnstone", "Before the next sailing.", "/vessels/turnstone/checks/91", 91));
        item["expires"].ShouldNotBeNull();
        var shown = await s.Get($"/v1/notifications/{sent.Id}", s.Key);
        shown.Json!["deadlines"]!.AsArray().Single()!.ToJsonString().ShouldContain("taken");
        (await sender.Send(new Notification("typing", "Somebody types", "user:mara") { Store = false })).Id.ShouldBeNull();
    }

    [Fact]
    public async Task Answers_that_are_lost_store_nothing_twice_and_lose_nothing()
    {
        const int Many = 300;
        using var relay = new Relay(s.Port);
        using var sender = Sender(relay.Url);
        using var over = new CancellationTokenSource();
        var sending = sender.SendMany(Enumerable.Range(0, Many).Select(i => new Notification("t", $"{i}", "user:mara")));
        // Connections are cut as long as anything is under way, after as many more as were stored.
        int cuts = 0;
        for (long stored = 0; !sending.IsCompleted; cuts++)
        {
            await Eventually.Holds(async () => sending.IsCompleted || (await s.Totals(s.Token("mara"))).Unread >= stored + 15, done => done,
                "more were stored");
            stored = (await s.Totals(s.Token("mara"))).Unread;
            relay.Cut();
        }
        var outcomes = await sending;
        outcomes.ShouldAllBe(o => o.Error == null);
        outcomes.Select(o => o.Notification.Title).ShouldBe(Enumerable.Range(0, Many).Select(i => $"{i}"));
        cuts.ShouldBeGreaterThan(3);
        var inbox = await Inbox("mara");
        inbox.Select(i => (string)i["id"]!).Order().ShouldBe(outcomes.Select(o => o.Sent!.Id!).Order());
        inbox.Count.ShouldBe(Many);
    }

    [Fact]
    public async Task A_limit_is_waited_for_as_the_service_says()
    {
        (await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, """{"limits":{"sendsPerSecond":10}}""")).Status.ShouldBe(200);
        using var sender = Sender();
        var outcomes = await sender.SendMany(Enumerable.Range(0, 25).Select(i => new Notification("t", $"{i}", "user:mara")));
        outcomes.ShouldAllBe(o => o.Error == null);
        (await Inbox("mara")).Count.ShouldBe(25);
    }

    [Fact]
    public async Task What_is_refused_is_not_tried_again_and_keeps_no_other_back()
    {
        using var sender = Sender();
        var outcomes =
            await sender.SendMany(
            [new Notification("t", "good", "user:mara"), new Notification("t", "two\nlines", "user:mara"),
            new Notification("t", "good too", "user:mara")]);
        outcomes.Select(o => o.Sent is not null).ShouldBe([true, false, true]);
        outcomes[1].Error.ShouldBeOfType<RovettRefusedException>().Fields.Single().Field.ShouldBe("title");
        var twice = new Notification("t", "once", "user:mara");
        var first = await sender.Send(twice, "invoice-77");
        (await sender.Send(twice, "invoice-77")).ShouldBeEquivalentTo(first with { Repeated = true, Reach = first.Reach });
        using var nobody = new RovettSender(new RovettSendOptions { Url = new Uri("http://127.0.0.1:1"), Key = "x", Retries = 1 });
        await Should.ThrowAsync<HttpRequestException>(() => nobody.Send(twice));
        Should.Throw<ArgumentException>(() => new RovettSender(new RovettSendOptions { Url = s.Url })).Message.ShouldContain("Key");
    }

    [Fact]
    public async Task An_application_adds_it_and_sees_each_send_in_its_traces()
    {
        var seen = new List<Activity>();
        using var listener = new ActivityListener
        {
            ShouldListenTo = source => source.Name == RovettSender.Telemetry,
            Sample = (ref ActivityCreationOptions<ActivityContext> _) => ActivitySamplingResult.AllData,
            ActivityStopped = a =>
            {
                lock (seen) seen.Add(a);
            },
        };
        ActivitySource.AddActivityListener(listener);
        await using var services = new ServiceCollection().AddRovett(o => (o.Url, o.Key) = (s.Url, s.Key)).BuildServiceProvider();
        var sender = services.GetRequiredService<IRovettSender>();
        var sent = await sender.Send(new Notification("traced.once", "Seen", "user:mara"));
        var activity = seen.Single(a => a.OperationName == "send traced.once");
        (activity.Kind, (string?)activity.GetTagItem("messaging.message.id")).ShouldBe((ActivityKind.Producer, sent.Id));
    }

    [Fact]
    public async Task The_session_that_caused_it_is_left_out()
    {
        using var live = await s.WebSocket(s.Token("mara"));
        var session = (string)(await live.Next("opened"))["session"]!;
        await live.Next("current");
        using var sender = Sender();
        await sender.Send(new Notification("t", "its own doing", "user:mara"), causedBy: session);
        ((int)(await live.Next("totals"))["totals"]!["unread"]!).ShouldBe(1);
    }
}
