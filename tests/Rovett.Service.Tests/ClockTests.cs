using Rovett.Testing;
using Shouldly;
using Xunit;
using static Rovett.Service.Tests.Events.EventGround;

namespace Rovett.Service.Tests;

/// <summary>Somebody sets the machine's clock while the service runs.</summary>
public sealed class ClockTests
{
    readonly TestClock clock = new();

    static string? StateOf(Answer shown) => (string?)shown.Json!["timeline"]!.AsArray()[^1]!["state"];

    [Theory]
    [InlineData(10)]
    [InlineData(-10)]
    public async Task What_is_due_ends_when_it_must_and_whoever_is_signed_out_meanwhile_signs_in_again(double hours)
    {
        await using var s = await ServiceUnderTest.Start(clock: clock);
        async Task<string> Send() =>
            (string)(await s.Post("/v1/notifications", s.Key,
            """{"to":["role:engineer"],"type":"t","title":"t","ttl":10800,"takeable":true,"deadlines":[{"by":"read","within":"PT2H","otherwise":{"to":["user:ruth"],"type":"t","title":"missed"}}]}""")).Json!["id"]!;
        var mara = s.Token("mara", "engineer");
        using var live = await s.WebSocket(mara);
        await live.Next("current");
        var before = await Send();
        (await s.Post("/v1/grants", s.Key, """{"user":"teo","topic":"berth/3","may":["subscribe"],"for":"3h"}""")).Status.ShouldBe(201);

        clock.Set(TimeSpan.FromHours(hours));
        var during = await Send();
        await live.Notifications(2);
        (await s.Post("/v1/users/mara/sign-out", s.Key, "")).Status.ShouldBe(200);
        (await s.Get("/v1/inbox/totals", mara)).Problem.ShouldBe("signed-out");
        (await s.Get("/v1/inbox/totals", s.Token("mara", "engineer"))).Status.ShouldBe(200);
        var status = (await s.Get("/v1/status", s.Key)).Json!["clock"]!;
        ((double)status["step"]!["bySeconds"]!).ShouldBe(hours * 3600, 5);

        clock.Set(TimeSpan.FromHours(-hours));
        (await s.Get("/v1/inbox/totals", s.Token("mara", "engineer"))).Status.ShouldBe(200);
        var after = await Send();
        foreach (var id in new[] { before, during, after }) StateOf(await s.Get("/v1/notifications/" + id, s.Key)).ShouldBe("stored");

        clock.Advance(TimeSpan.FromHours(2.5));
        await Eventually.Holds(async () => (await s.Totals(TestTokens.Make(s.Secret, "ruth", lifetime: TimeSpan.FromHours(12)))).Unread,
            n => n == 3, "three deadlines are missed", 40);
        (await s.Get("/v1/grants", s.Key)).Json!["grants"]!.AsArray().Count.ShouldBe(1);
        clock.Advance(TimeSpan.FromHours(1));
        foreach (var id in new[] { before, during, after })
        {
            await Eventually.Holds(async () => StateOf(await s.Get("/v1/notifications/" + id, s.Key)), state => state == "expired",
                "expired");
        }
        await Eventually.Holds(async () => (await s.Get("/v1/grants", s.Key)).Json!["grants"]!.AsArray().Count, n => n == 0,
            "the grant ended");
        (await s.Get("/v1/status", s.Key)).Json!["clock"]!["step"].ShouldBeNull();
    }

    [Fact]
    public async Task A_session_does_not_outlast_its_token_when_the_clock_is_set_back()
    {
        await using var s = await ServiceUnderTest.Start(clock: clock);
        using var live = await s.WebSocket(TestTokens.Make(s.Secret, "mara", lifetime: TimeSpan.FromMinutes(30)));
        await live.Next("current");
        clock.Set(TimeSpan.FromHours(-10));
        clock.Advance(TimeSpan.FromMinutes(31));
        ((string)(await live.Next("ending"))["reason"]!).ShouldBe("token-expired");
    }

    [Fact]
    public async Task Retention_trims_nothing_by_a_clock_that_was_set_ahead_until_an_operator_says_that_it_is_right()
    {
        await using var s = await ServiceUnderTest.Start(o => o.KeepFor = "7d", clock: clock);
        for (int i = 0; i < 20; i++) await s.Send("user:mara");
        clock.Set(TimeSpan.FromDays(30));
        await s.Send("user:mara");
        clock.Advance(TimeSpan.FromMinutes(6)); // long enough to be believed
        await Eventually.Holds(async () => (await s.Get("/v1/clock", s.Key)).Json!["clock"]!,
            c => (double)c["retentionHeldBackSeconds"]! > 0 && c["step"] is null, "the step is believed");
        async Task<long> Unread() =>
            (long)(await s.Get("/v1/inbox/totals",
            TestTokens.Make(s.Secret, "mara",
            change: c =>
            (c["iat"], c["exp"]) = (DateTimeOffset.UtcNow.AddDays(30).ToUnixTimeSeconds(), DateTimeOffset.UtcNow.AddDays(31)
            .ToUnixTimeSeconds())))).Json!["unread"]!;
        (await Unread()).ShouldBe(21);
        await s.Restart();
        (await Unread()).ShouldBe(21);
        clock.Boot = "another boot";
        await s.Restart();
        (await Unread()).ShouldBe(21);
        (await s.Post("/v1/clock/confirm", s.Key, "")).Json!["clock"]!["retentionHeldBackSeconds"]!.GetValue<double>().ShouldBe(0);
        await Eventually.Holds(Unread, n => n == 0, "everything is older than a week");
        (await s.Get("/v1/audit", s.Key)).Text.ShouldContain("clock.confirmed");
    }

    [Fact]
    public async Task A_repeat_of_an_event_is_recognised_as_long_as_the_space_says_though_its_notification_is_gone()
    {
        await using var s = await ServiceUnderTest.Start(o => o.KeepFor = "1d", clock: clock);
        await s.Load(Rules);
        (await s.Call(HttpMethod.Patch, "/v1/settings", s.Key, """{"repeatsKeptFor":"PT120H"}""")).Json!["repeatsKeptFor"]!
            .GetValue<string>().ShouldBe("5d");
        async Task<bool> IsRepeated() => (bool)(await s.Publish(Check("e1"))).Json!["repeated"]!;
        async Task After(TimeSpan time)
        {
            clock.Advance(time);
            var id = await s.Send("role:engineer");
            clock.Advance(TimeSpan.FromHours(25));
            await Eventually.Holds(async () => (await s.Get($"/v1/notifications/{id}", s.Key)).Status, status => status == 404, "trimmed");
        }
        (await IsRepeated()).ShouldBeFalse();
        await After(TimeSpan.FromDays(3));
        (await IsRepeated()).ShouldBeTrue();
        await After(TimeSpan.FromDays(2));
        (await IsRepeated()).ShouldBeFalse();
    }

    [Fact]
    public async Task An_operators_word_believes_a_step_at_once_and_sign_outs_noted_by_the_wrong_time_move_along()
    {
        clock.Set(TimeSpan.FromHours(10)); // wrong from the start
        await using var s = await ServiceUnderTest.Start(clock: clock);
        string Late(string user) =>
            TestTokens.Make(s.Secret, user, change: c => (c["iat"], c["exp"]) = ((double)c["iat"] + 36_000, (long)c["exp"] + 36_000));
        var old = Late("mara");
        (await s.Get("/v1/inbox/totals", old)).Status.ShouldBe(200);
        (await s.Post("/v1/users/mara/sign-out", s.Key, "")).Status.ShouldBe(200);
        clock.Set(TimeSpan.FromHours(-10)); // and put right
        (await s.Get("/v1/inbox/totals", s.Token("mara"))).Status.ShouldBe(401);
        (await s.Post("/v1/clock/confirm", s.Key, "")).Status.ShouldBe(200);
        await Eventually.Holds(async () => (await s.Get("/v1/inbox/totals", s.Token("mara"))).Status, status => status == 200,
            "a fresh token is let in");
    }
}
