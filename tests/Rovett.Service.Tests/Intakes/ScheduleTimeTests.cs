using System.Text;
using Rovett.Core.Yaml;
using Rovett.Service.Intakes.Reading;
using Rovett.Service.Intakes.Schedules;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Intakes;

/// <summary>The times of a schedule where the clocks are changed.</summary>
public sealed class ScheduleTimeTests
{
    static string[] After(string cron, string begin, int count)
    {
        var file = $$"""
            intakes:
              - { name: a, schedule: { cron: "{{cron}}", zone: Europe/Amsterdam, event: { type: t, source: /s } } }
            """;
        var mistakes = new List<RuleMistake>();
        var kind = (ScheduleKind)IntakeFile.Read(Encoding.UTF8.GetBytes(file), mistakes).Single().Kind;
        var times = new List<string>();
        var at = DateTimeOffset.Parse(begin);
        while (times.Count < count) times.Add((at = kind.After(at)!.Value).UtcDateTime.ToString("MM-dd HH:mm"));
        return [.. times];
    }

    [Fact]
    public void A_time_that_is_skipped_is_the_first_after_the_gap() =>
        After("30 2 * * *", "2027-03-27T00:00:00Z", 3).ShouldBe(["03-27 01:30", "03-28 01:00", "03-29 00:30"]);

    [Fact]
    public void A_time_that_comes_twice_counts_once() =>
        After("30 2 * * *", "2027-10-30T00:00:00Z", 3).ShouldBe(["10-30 00:30", "10-31 00:30", "11-01 01:30"]);
}
