using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Intakes;

/// <summary>Events at the times of a schedule.</summary>
public sealed class ScheduleTests
{
    readonly TestClock clock = new();

    static string Daily(string more = "") => $$$"""
        intakes:
          - name: morning
            schedule:
              { cron: "0 6 * * *", zone: UTC{{{more}}}, event: { type: day.begins, source: /clock, data: { text: "{{ now }}" } } }
        """;

    async Task<ServiceUnderTest> Start(string file)
    {
        var service = await IntakeGround.Start(file, clock);
        await service.Until("morning", i => (string)i["state"]! == "running", "it runs");
        return service;
    }

    /// <summary>Lets time pass until shortly before or after six in the morning, some days on.</summary>
    DateTimeOffset Go(int days, TimeSpan from)
    {
        var now = clock.GetUtcNow();
        var six = new DateTimeOffset(now.UtcDateTime.AddHours(-6).Date.AddDays(days).AddHours(6), TimeSpan.Zero);
        clock.Advance(six + from - now);
        return six;
    }

    [Fact]
    public async Task It_comes_at_its_time_and_not_before()
    {
        await using var service = await Start(Daily());
        var six = Go(1, TimeSpan.FromSeconds(-2));
        var told = await service.Told(1);
        var stored = (await service.Get("/v1/notifications?to=user:mara", service.Key)).Json!["notifications"]![0]!;
        DateTimeOffset.Parse((string)stored["time"]!).ShouldBeInRange(six, six.AddSeconds(10));
        told.ShouldBe([six.UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss'Z'")]);
        var shown = (await service.Get($"/v1/events?source=/clock&id=morning%20{told[0]}", service.Key)).Json!;
        ((string)shown["type"]!).ShouldBe("day.begins");
        var test = (await service.Post("/v1/intakes/morning/test", service.Key, "")).Json!;
        ((string)test["found"]![0]!).ShouldContain("06:00:00");
    }

    [Fact]
    public async Task Times_that_were_missed_are_made_up_for_once()
    {
        await using var service = await Start(Daily());
        Go(1, TimeSpan.FromSeconds(1));
        await service.Told(1);
        await service.Service.DisposeAsync();
        Go(4, TimeSpan.FromHours(2));
        await service.Restart();
        var told = await service.Told(2);
        told.Length.ShouldBe(2);
        DateTimeOffset.Parse(told[1]).ShouldBe(DateTimeOffset.Parse(told[0]).AddDays(4));
        await service.Restart();
        Go(1, TimeSpan.FromSeconds(1));
        (await service.Told(3)).Length.ShouldBe(3);
    }

    [Fact]
    public async Task Or_they_are_left_out_where_that_is_wanted()
    {
        await using var service = await Start(Daily(", missed: skip"));
        Go(1, TimeSpan.FromSeconds(1));
        await service.Told(1);
        await service.Service.DisposeAsync();
        Go(4, TimeSpan.FromHours(2));
        await service.Restart();
        await service.Until("morning", i => (string)i["state"]! == "running", "it runs");
        Go(1, TimeSpan.FromSeconds(1));
        var told = await service.Told(2);
        told.Length.ShouldBe(2);
        DateTimeOffset.Parse(told[1]).ShouldBe(DateTimeOffset.Parse(told[0]).AddDays(5));
    }

    [Fact]
    public async Task A_single_time_comes_once_and_the_intake_has_ended()
    {
        var at = clock.GetUtcNow().AddHours(1);
        await using var service = await IntakeGround.Start($$"""
            intakes:
              - name: morning
                schedule: { at: "{{at:yyyy-MM-dd'T'HH:mm:ss'Z'}}", event: { type: day.begins, source: /clock, data: { text: once } } }
            """, clock);
        await service.Until("morning", i => (string)i["state"]! == "running", "it runs");
        clock.Advance(TimeSpan.FromHours(1));
        (await service.Told(1)).ShouldBe(["once"]);
        await service.Until("morning", i => (string)i["state"]! == "ended", "it has ended");
        await service.Restart();
        await service.Until("morning", i => (string)i["state"]! == "ended", "it stays so");
        (await service.Totals(service.Token("mara"))).Unread.ShouldBe(1);
    }
}
