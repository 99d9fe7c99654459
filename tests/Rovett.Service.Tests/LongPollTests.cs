using System.Diagnostics;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>The third transport: requests that wait for an answer.</summary>
public sealed class LongPollTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start();

    public async ValueTask DisposeAsync() => await s.DisposeAsync();

    async Task<(string Session, List<JsonNode> Messages)> Open(string token, string query = "")
    {
        var answer = await s.Call(HttpMethod.Get, "/v1/live" + query, token, null, ("Accept", "application/json"));
        answer.Status.ShouldBe(200, answer.Text);
        var messages = answer.Json!.AsArray().Select(m => m!).ToList();
        ((string)messages[0]["kind"]!).ShouldBe("opened");
        ((string)messages[0]["transport"]!).ShouldBe("long-poll");
        return ((string)messages[0]["session"]!, messages);
    }

    /// <summary>Opens a session and asks until it is caught up.</summary>
    async Task<(string Session, List<JsonNode> Messages, int Turn)> CaughtUp(string token, string query = "")
    {
        var (session, messages) = await Open(token, query);
        int turn = 0;
        while (messages.All(m => (string?)m["kind"] != "current"))
        {
            var answer = await Ask(token, session, ++turn);
            answer.Status.ShouldBe(200, answer.Text);
            messages.AddRange(answer.Json!.AsArray().Select(m => m!));
        }
        return (session, messages, turn);
    }

    Task<Answer> Ask(string token, string session, int turn, int wait = 10) =>
        s.Call(HttpMethod.Get, $"/v1/live/{session}?turn={turn}", token, null, ("Prefer", $"wait={wait}"));

    [Fact]
    public async Task Messages_come_with_the_request_that_waits_and_what_is_posted_counts()
    {
        var mara = s.Token("mara", "engineer");
        var (session, _, turn) = await CaughtUp(mara, "?device=bridge-tablet");
        var waiting = Ask(mara, session, turn + 1);
        var id = await s.Send("role:engineer", "Bow thruster check due");
        var answer = await waiting;
        answer.Headers.GetValues("Preference-Applied").ShouldBe(["wait=10"]);
        var notification = answer.Json!.AsArray().Single()!;
        ((string)notification["kind"]!, (string)notification["id"]!, (string)notification["title"]!,
            (long)notification["unread"]!).ShouldBe(("notification", id, "Bow thruster check due", 1));
        var acked = await s.Post($"/v1/live/{session}", mara,
            $$"""{"kind":"ack","upTo":"{{notification["cursor"]}}","handled":true,"requestId":"a"}""");
        ((string)acked.Json![0]!["kind"]!).ShouldBe("done");
        (await s.Get($"/v1/notifications/{id}", s.Key)).Json!["people"]!["handled"]!.GetValue<int>().ShouldBe(1);
        // Nothing comes: the answer is empty once the time is up.
        var clock = Stopwatch.StartNew();
        (await Ask(mara, session, turn + 2, wait: 1)).Text.ShouldBe("[]");
        clock.Elapsed.ShouldBeGreaterThan(TimeSpan.FromMilliseconds(900));
        (await s.Get("/v1/sessions", s.Key)).Text.ShouldContain("long-poll");
    }

    [Fact]
    public async Task A_repeated_request_gets_the_same_answer_and_none_is_left_out()
    {
        var mara = s.Token("mara");
        var (session, _, turn) = await CaughtUp(mara);
        var titles = new List<string>();
        for (int i = 0; i < 40; i++)
        {
            await s.Send("user:mara", $"number {i}");
            var first = await Ask(mara, session, ++turn);
            var again = await Ask(mara, session, turn); // as when the answer was lost on the way
            again.Text.ShouldBe(first.Text);
            titles.AddRange(first.Json!.AsArray().Where(m => (string?)m!["kind"] == "notification").Select(m => (string)m!["title"]!));
        }
        titles.ShouldBe(Enumerable.Range(0, 40).Select(i => $"number {i}"));
        (await Ask(mara, session, turn + 2)).Problem.ShouldBe("poll-out-of-turn");
        (await Ask(mara, session, turn - 1)).Problem.ShouldBe("poll-out-of-turn");
        (await s.Get($"/v1/live/{session}", mara)).Problem.ShouldBe("invalid-fields");
    }

    [Fact]
    public async Task More_than_one_answer_holds_comes_in_several_and_whole()
    {
        var mara = s.Token("mara");
        for (int i = 0; i < 250; i++) await s.Send("user:mara", $"number {i} {new string('x', 180)}");
        var (_, messages, turn) = await CaughtUp(mara);
        turn.ShouldBeGreaterThan(1);
        messages.Where(m => (string?)m["kind"] == "notification").Select(m => ((string)m["title"]!).Split(' ')[1])
            .ShouldBe(Enumerable.Range(0, 250).Select(i => $"{i}"));
    }

    [Fact]
    public async Task Only_the_newest_of_two_requests_waits()
    {
        var mara = s.Token("mara");
        var (session, _, turn) = await CaughtUp(mara);
        Task<Answer>[] both = [Ask(mara, session, turn + 1), Ask(mara, session, turn + 1)];
        var first = await Task.WhenAny(both);
        (await first).Problem.ShouldBe("poll-superseded");
        var id = await s.Send("user:mara");
        var other = both.Single(b => b != first);
        ((string)(await other).Json![0]!["id"]!).ShouldBe(id);
    }

    [Fact]
    public async Task Somebody_elses_session_and_a_stream_cannot_be_polled()
    {
        var (session, _) = await Open(s.Token("mara"));
        (await Ask(s.Token("teo"), session, 1)).Problem.ShouldBe("unknown-session");
        (await s.Call(HttpMethod.Get, $"/v1/live/{session}?turn=1", null)).Problem.ShouldBe("token-missing");
        (await Ask(s.Token("mara"), "nothing", 1)).Problem.ShouldBe("unknown-session");
        using var socket = await s.WebSocket(s.Token("teo"));
        var opened = await socket.Next("opened");
        (await Ask(s.Token("teo"), (string)opened["session"]!, 1)).Problem.ShouldBe("not-polled");
    }

    [Fact]
    public async Task A_session_that_nobody_asks_ends_and_its_device_goes_on_from_its_cursor()
    {
        var mara = s.Token("mara");
        var (session, came, turn) = await CaughtUp(mara, "?device=shore-office");
        var current = came.Single(m => (string?)m["kind"] == "current");
        var id = await s.Send("user:mara", "while nobody asks");
        await Eventually.Holds(() => s.Get("/v1/sessions", s.Key), a => !a.Text.Contains("shore-office", StringComparison.Ordinal),
            "the session is over", 30);
        (await Ask(mara, session, turn + 1)).Problem.ShouldBe("unknown-session");
        var (_, messages, _) = await CaughtUp(mara, $"?device=shore-office&after={current["cursor"]}");
        ((string)messages.Single(m => (string?)m["kind"] == "notification")["id"]!).ShouldBe(id);
    }

    [Fact]
    public async Task A_ticket_opens_a_polled_session_and_asks_for_its_messages()
    {
        var mara = s.Token("mara");
        var ticket = (string)(await s.Post("/v1/tickets", mara, "{}")).Json!["ticket"]!;
        var opened = await s.Call(HttpMethod.Get, $"/v1/live?ticket={ticket}&device=d", null, null, ("Accept", "application/json"));
        var session = (string)opened.Json![0]!["session"]!;
        (await s.Call(HttpMethod.Get, $"/v1/live/{session}?turn=1&ticket={ticket}", null, null, ("Prefer", "wait=0"))).Status.ShouldBe(200);
        var other = (string)(await s.Post("/v1/tickets", mara, "{}")).Json!["ticket"]!;
        (await s.Call(HttpMethod.Get, $"/v1/live/{session}?turn=2&ticket={other}", null)).Status.ShouldBeGreaterThanOrEqualTo(400);
    }

    [Fact]
    public async Task The_last_words_reach_the_request_that_waits()
    {
        var mara = s.Token("mara");
        var (session, _, turn) = await CaughtUp(mara);
        var waiting = Ask(mara, session, turn + 1);
        (await s.Post("/v1/users/mara/sign-out", s.Key, "{}")).Status.ShouldBe(200);
        ((string)(await waiting).Json!.AsArray()[^1]!["reason"]!).ShouldBe("signed-out");
    }
}
