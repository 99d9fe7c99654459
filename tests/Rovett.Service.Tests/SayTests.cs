using System.Text.Encodings.Web;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>What connected users say to each other on a topic.</summary>
public sealed class SayTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync()
    {
        s = await ServiceUnderTest.Start();
        const string policies = """
            {"policies":[
              {"name":"crew at their berth","topic":"berth/{berth}","may":["subscribe","follow","say"],"when":{"role":"berth-{berth}"}},
              {"name":"desks listen","topic":"berth/{berth}","may":["subscribe"],"when":{"role":"harbour-desk"}}
            ]}
            """;
        (await s.Call(HttpMethod.Put, "/v1/policies", s.Key, policies)).Status.ShouldBe(200);
    }

    public ValueTask DisposeAsync() => s.DisposeAsync();

    async Task<RawWebSocket> On(string topic, string user, params string[] roles)
    {
        var live = await s.WebSocket(s.Token(user, roles));
        await live.Next("current");
        (await live.Ask($$"""{"kind":"subscribe","topic":"{{topic}}","requestId":"a"}""")).ShouldBe("done");
        return live;
    }

    [Fact]
    public async Task Everybody_on_the_topic_hears_it_but_the_session_that_said_it_and_the_name_is_the_tokens()
    {
        await s.Call(HttpMethod.Put, "/v1/users/teo", s.Key, """{"displayName":"Teo Lind"}""");
        using var teo = await On("berth/3", "teo", "berth-3");
        using var his = await On("berth/3", "teo", "berth-3");
        using var pia = await On("berth/3", "pia", "harbour-desk");
        using var elsewhere = await On("berth/4", "ivo", "berth-4");
        (await teo.Ask(
            """{"kind":"say","topic":"berth/3","data":{"text":"Lines are fast é"},"from":"mara","displayName":"Mara","requestId":"b"}""")).ShouldBe("done");
        foreach (var listener in new[] { pia, his })
        {
            var said = await listener.Next("said");
            said["time"].ShouldNotBeNull();
            said.Remove("time");
            said.ToJsonString(new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping })
                .ShouldBe("""{"kind":"said","to":"topic:berth/3","from":"teo","displayName":"Teo Lind","data":{"text":"Lines are fast é"}}""");
        }
        await teo.Text("""{"kind":"say","topic":"berth/3","data":"to me too","self":true}""");
        ((string)(await teo.Next("said"))["data"]!).ShouldBe("to me too");
        // What comes next is the first thing that the others hear: nothing was said to them.
        await s.Send("everyone", "The end");
        var heard = new List<string>();
        for (JsonObject next; (string)(next = (await elsewhere.Next())!)["kind"]! != "notification";) heard.Add((string)next["kind"]!);
        heard.ShouldNotContain("said");
        (await s.Totals(s.Token("pia", "harbour-desk"))).Unread.ShouldBe(1); // the notification; what is said is counted nowhere
    }

    [Fact]
    public async Task Who_may_listen_may_not_for_that_say_something_and_a_lost_right_bites()
    {
        using var pia = await On("berth/3", "pia", "harbour-desk");
        using var teo = await On("berth/3", "teo", "berth-3");
        (await pia.Ask("""{"kind":"say","topic":"berth/3","data":"canary-x","requestId":"b"}""")).ShouldBe("not-allowed");
        (await s.Get("/v1/explain?user=pia&on=topic:berth/3", s.Key)).Text.ShouldContain("say");
        (await teo.Ask("""{"kind":"say","topic":"berth/3","data":"one","requestId":"c"}""")).ShouldBe("done");
        var heard = await pia.Next("said");
        ((string)heard["data"]!).ShouldBe("one");
        (await s.Call(HttpMethod.Put, "/v1/policies", s.Key,
            """{"policies":[{"name":"none","topic":"berth/{berth}","may":["subscribe"],"when":{"role":"harbour-desk"}}]}""")).Status.ShouldBe(200);
        (await teo.Ask("""{"kind":"say","topic":"berth/3","data":"canary-y","requestId":"d"}""")).ShouldBe("not-allowed");
        await s.Send("user:pia", "The end");
        string.Join(' ', (await pia.Next("notification")).ToJsonString()).ShouldNotContain("canary");
    }

    [Theory]
    [InlineData("""{"kind":"say","topic":"berth/3","requestId":"r"}""", "data")]
    [InlineData("""{"kind":"say","topic":"berth/3","data":null,"requestId":"r"}""", "data")]
    [InlineData("""{"kind":"say","topic":"topic:berth/3","data":1,"requestId":"r"}""", "topic")]
    [InlineData("""{"kind":"say","data":1,"requestId":"r"}""", "topic")]
    [InlineData("""{"kind":"say","topic":"berth/3","data":1,"self":"yes","requestId":"r"}""", "self")]
    [InlineData("""{"kind":"say","topic":"berth/3","data":"\ud800","requestId":"r"}""", "data")]
    public async Task What_can_not_be_said_is_refused_by_name(string message, string field)
    {
        using var teo = await On("berth/3", "teo", "berth-3");
        await teo.Text(message);
        var problem = (await teo.Next("refused"))["problem"]!;
        ((string)problem["errors"]![0]!["field"]!).ShouldBe(field);
    }

    [Fact]
    public async Task Too_much_at_once_is_refused_and_a_stream_says_by_post()
    {
        using var pia = await On("berth/3", "pia", "harbour-desk");
        var token = s.Token("teo", "berth-3");
        using var teo = await s.Events(token);
        var session = (string)(await teo.Next("opened"))["session"]!;
        (await s.Post($"/v1/live/{session}", token,
            $$"""{"kind":"say","topic":"berth/3","data":"{{new string('x', 4096)}}"}""")).Json![0]!["problem"]!["errors"]![0]!["field"]!.GetValue<string>().ShouldBe("data");
        (await s.Post($"/v1/live/{session}", token, """{"kind":"say","topic":"berth/3","data":[1,2]}""")).Status.ShouldBe(204);
        (await pia.Next("said"))["data"]!.ToJsonString().ShouldBe("[1,2]");
    }
}
