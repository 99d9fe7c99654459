using System.Diagnostics;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>A right that is taken away is gone: for what is open, what comes back, and what is on its way.</summary>
public sealed class RevocationTests : IAsyncLifetime
{
    ServiceUnderTest s = null!;

    public async ValueTask InitializeAsync() => s = await ServiceUnderTest.Start();
    public ValueTask DisposeAsync() => s.DisposeAsync();

    Task<Answer> Put(string user, string json) => s.Call(HttpMethod.Put, "/v1/users/" + user, s.Key, json);

    async Task<string> Verdict(string token)
    {
        var answer = await s.Get("/v1/inbox/totals", token);
        return answer.Status == 200 ? "in" : answer.Problem!;
    }

    [Fact]
    public async Task A_user_who_is_signed_out_is_out_everywhere_and_comes_back_only_with_a_newer_credential()
    {
        var token = s.Token("mara", "engineer");
        var ticket = (string)(await s.Post("/v1/tickets", token, "{}")).Json!["ticket"]!;
        using var desk = await s.WebSocket(token);
        using var phone = await s.Events(token);
        using var teo = await s.WebSocket(s.Token("teo", "engineer"));
        foreach (RawConnection live in new RawConnection[] { desk, phone, teo }) await live.Next("current");
        var answer = await s.Post("/v1/users/mara/sign-out", s.Key, "");
        ((int)answer.Json!["sessionsEnded"]!).ShouldBe(2);
        foreach (RawConnection live in new RawConnection[] { desk, phone })
        {
            var end = await live.Next("ending");
            ((string)end["reason"]!, end.ContainsKey("comeBackWithinMs")).ShouldBe(("signed-out", false));
            (await live.Next()).ShouldBeNull();
        }
        (await Verdict(token)).ShouldBe("signed-out");
        foreach (var (method, path, body) in new[]
            { ("POST", "/v1/tickets", "{}"), ("GET", "/v1/mutes", null), ("POST", "/v1/inbox/marks", """{"read":{"all":true}}"""),
            ("GET", "/v1/live", null), ("GET", "/v1/inbox", null) })
            (await s.Call(new HttpMethod(method), path, token, body)).Problem.ShouldBe("signed-out", path);
        using (var again = await s.WebSocket(null,
            $"?ticket={ticket}")) ((string)(await again.Next("refused"))["problem"]!["type"]!).ShouldEndWith("signed-out");
        await s.Send("role:engineer", "While out");
        ((string)(await teo.Next("notification"))["title"]!).ShouldBe("While out"); // others are not concerned
        await s.Restart();
        (await Verdict(token)).ShouldBe("signed-out");
        var later = s.Token("mara", "engineer");
        (await Verdict(later)).ShouldBe("in");
        using var back = await s.WebSocket(later);
        ((string)(await back.Next("notification"))["title"]!).ShouldBe("While out");
        // Somebody whose tokens were never shown here can be signed out too.
        var unseen = s.Token("nils");
        (await s.Post("/v1/users/nils/sign-out", s.Key, "")).Status.ShouldBe(200);
        (await Verdict(unseen)).ShouldBe("signed-out");
        (await s.Post("/v1/users/a%2Fb/sign-out", s.Key, "")).Status.ShouldBe(422);
        (await s.Post("/v1/users/mara/sign-out", later, "")).Problem.ShouldBe("token-for-api-key");
    }

    [Fact]
    public async Task A_blocked_user_is_out_with_every_credential_until_let_in_again_and_then_has_it_all()
    {
        using var live = await s.WebSocket(s.Token("mara", "engineer"));
        await live.Next("current");
        (await Put("mara", """{"blocked":true}""")).Json!["blocked"]!.GetValue<bool>().ShouldBeTrue();
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("blocked");
        await s.Send("role:engineer", "Meanwhile");
        var blocked = await s.Get("/v1/inbox", s.Token("mara", "engineer"));
        (blocked.Status, blocked.Problem).ShouldBe((403, "user-blocked"));
        // Nothing else lets her in.
        (await Put("mara", """{"displayName":"Mara Quill"}""")).Json!["blocked"]!.GetValue<bool>().ShouldBeTrue();
        (await Put("mara", """{"blocked":"no"}""")).Status.ShouldBe(422);
        await s.Restart();
        (await Verdict(s.Token("mara", "engineer"))).ShouldBe("user-blocked");
        (await Put("mara", """{"blocked":false}""")).Json!["blocked"].ShouldBeNull();
        (await s.Totals(s.Token("mara", "engineer"))).Unread.ShouldBe(1);
        var trail = (await s.Get("/v1/audit", s.Key)).Json!["acts"]!.AsArray();
        trail.Select(a => $"{a!["act"]} {a["about"]}").ShouldContain("user.put user:mara");
        await s.Call(HttpMethod.Delete, "/v1/users/mara", s.Key);
        (await s.Get("/v1/audit", s.Key)).Text.ShouldNotContain("mara");
    }

    const string CrewPolicies =
        """{"policies":[{"name":"crew","topic":"berth/{n}","may":["subscribe","follow"],"when":{"role":"berth-crew"}}]}""";

    Task<Answer> Load(string policies) => s.Call(HttpMethod.Put, "/v1/policies", s.Key, policies);

    /// <summary>In each trial a session listens, a right is taken away while sends go on without pause, and nothing that was
    /// stored after the answer to the change may arrive. By a role that is lost, a sign-out, a block; of a topic,
    /// subscribed to or followed:
    /// by a grant that is ended, by other policies, by the role that a policy asks for.</summary>
    [Fact]
    public async Task Nothing_sent_after_a_right_was_taken_away_arrives_however_close_it_comes()
    {
        int trials = int.TryParse(Environment.GetEnvironmentVariable("ROVETT_TRIALS"), out int wanted) ? wanted : 60;
        var worst = TimeSpan.Zero;
        for (int trial = 0; trial < trials; trial++)
        {
            int way = trial % 6;
            bool isTopic = way >= 3, follows = trial % 4 >= 2;
            var (user, topic) = ($"user{trial}", $"berth/{trial}");
            var address = isTopic ? "topic:" + topic : "role:engineer";
            if (way is 4 or 5) (await Load(CrewPolicies)).Status.ShouldBe(200);
            string? grant = way == 3
                ? (await s.Post("/v1/grants", s.Key,
                $$"""{"user":"{{user}}","topic":"{{topic}}","may":["subscribe","follow"]}""")).Json!["grant"]!.ToString()
                : null;
            var token = s.Token(user, "engineer", "deckhand", way is 4 or 5 ? "berth-crew" : "steward");
            using RawConnection live = trial % 2 == 0 ? await s.WebSocket(token) : await s.Events(token);
            var session = (string)(await live.Next("opened"))["session"]!;
            await live.Next("current");
            if (isTopic)
            {
                var kind = follows ? "follow" : "subscribe";
                if (live is RawWebSocket socket) await socket.Text($$"""{"kind":"{{kind}}","topic":"{{topic}}"}""");
                else
                {
                    (await s.Post("/v1/live/" + session, token, $$"""{"kind":"{{kind}}","topic":"{{topic}}"}""")).Status.ShouldBe(follows
                        ? 200
                        : 204);
                }
                (await live.Next("channels"))["channels"]!.AsArray().Select(c => (string)c!).ShouldContain(address);
            }
            var until = new CancellationTokenSource();
            var after = new HashSet<string>();
            var changed = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
            var sending = Task.Run(async () =>
            {
                for (int i = 0; !until.IsCancellationRequested; i++)
                {
                    if (i == 200) await changed.Task; // nothing is acknowledged here: more than the window would stay behind
                    bool isAfter = changed.Task.IsCompleted;
                    var title = $"{trial}-{i}";
                    if (isAfter) after.Add(title);
                    await s.Send(address, title);
                    if (after.Count >= 5) return;
                }
            });
            await live.Next("notification");
            var start = Stopwatch.GetTimestamp();
            var answer = way switch
            {
                0 or 5 => await s.Get("/v1/inbox/totals", s.Token(user, "deckhand")), // a newer token without the role
                1 => await s.Post($"/v1/users/{user}/sign-out", s.Key, ""),
                2 => await Put(user, """{"blocked":true}"""),
                3 => await s.Call(HttpMethod.Delete, "/v1/grants/" + grant, s.Key),
                _ => await Load("""{"policies":[]}"""),
            };
            answer.Status.ShouldBeInRange(200, 204);
            changed.SetResult();
            bool ends = way is 1 or 2;
            var arrived = new List<string>();
            for (JsonObject? message; (message = await live.Next()) is not null;)
            {
                if ((string)message["kind"]! == "notification") arrived.Add((string)message["title"]!);
                if ((string)message["kind"]! != (ends ? "ending" : "channels")) continue;
                worst = TimeSpan.FromTicks(Math.Max(worst.Ticks, Stopwatch.GetElapsedTime(start).Ticks));
                if (ends) break;
                message["channels"]!.AsArray().Select(c => (string)c!).ShouldNotContain(address);
                await sending;
                await s.Send($"user:{user}", "the end"); // whatever went before this has arrived before it
                while ((message = await live.Next("notification")) is not null && (string)message["title"]! != "the end")
                {
                    arrived.Add((string)message["title"]!);
                }
                break;
            }
            await sending;
            arrived.ShouldNotContain(t => after.Contains(t), $"trial {trial}");
            if (ends) (await live.Next()).ShouldBeNull();
            await until.CancelAsync();
        }
        worst.ShouldBeLessThan(TimeSpan.FromSeconds(5));
        TestContext.Current.SendDiagnosticMessage(
            $"{trials} trials, at worst {worst.TotalMilliseconds:0} ms from the request to the session's last word");
    }
}
