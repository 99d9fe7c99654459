using System.Text.Json;
using CsCheck;
using Rovett.Core.Choices;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>Quiet hours as instants, in any time zone.</summary>
public sealed class QuietHoursTests
{
    static QuietHours Read(string json)
    {
        var errors = new List<FieldError>();
        using var document = JsonDocument.Parse(json);
        var quiet = QuietHours.Read(document.RootElement, "quiet", errors);
        errors.ShouldBeEmpty();
        return quiet!;
    }

    static string Spans(string hours, string now, string zone = "Europe/Berlin") =>
        string.Join(' ', Read($$"""{"timeZone":"{{zone}}","hours":{{hours}}}""").Spans(DateTimeOffset.Parse(now))
            .Select(s => $"{s.From:MM-dd HH:mm}/{s.To:MM-dd HH:mm}"));

    [Theory]
    [InlineData("""[{"from":"22:00","to":"06:30"}]""", "2026-11-28T12:00Z", "11-28 21:00/11-29 05:30 11-29 21:00/11-30 05:30")]
    [InlineData("""[{"from":"22:00","to":"06:30"}]""", "2026-11-28T23:00Z",
        "11-28 21:00/11-29 05:30 11-29 21:00/11-30 05:30 11-30 21:00/12-01 05:30")]
    [InlineData("""[{"days":["sat"],"from":"00:00","to":"24:00"}]""", "2026-11-28T12:00Z", "11-27 23:00/11-28 23:00")]
    [InlineData("""[{"from":"00:00","to":"24:00"}]""", "2026-11-28T12:00Z", "11-27 23:00/11-30 23:00")]
    [InlineData("""[{"from":"12:00","to":"14:00"},{"from":"13:00","to":"15:00"}]""", "2026-11-28T15:00Z",
        "11-29 11:00/11-29 14:00 11-30 11:00/11-30 14:00")]
    public void They_are_spans_of_the_next_two_days(string hours, string now, string expected) =>
        Spans(hours, now).ShouldBe(expected);

    [Fact]
    public void A_skipped_time_is_the_next_that_exists() => // 2027-03-28: 02:00 becomes 03:00 in Berlin, at 01:00 UTC
        Spans("""[{"days":["sun"],"from":"02:30","to":"05:00"}]""", "2027-03-27T20:00Z").ShouldBe("03-28 01:00/03-28 03:00");

    [Fact]
    public void A_span_within_what_is_skipped_is_none() =>
        Spans("""[{"days":["sun"],"from":"02:10","to":"02:50"}]""", "2027-03-27T20:00Z").ShouldBe("");

    [Fact]
    public void Of_a_double_time_a_begin_takes_the_first_and_an_end_the_last() // 2026-10-25: 03:00 becomes 02:00 again, at 01:00 UTC
    {
        Spans("""[{"days":["sun"],"from":"02:30","to":"04:00"}]""", "2026-10-24T20:00Z").ShouldBe("10-25 00:30/10-25 03:00");
        Spans("""[{"days":["sat"],"from":"22:00","to":"02:30"}]""", "2026-10-24T19:00Z").ShouldBe("10-24 20:00/10-25 01:30");
    }

    [Fact]
    public void Every_instant_is_quiet_exactly_when_a_clock_there_says_so()
    {
        string[] names = ["UTC", "Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu", "Pacific/Apia"];
        var zones = Gen.Int[0, names.Length - 1].Select(i => names[i]);
        var days = Gen.Enum<DayOfWeek>().HashSet[1, 7].Select(d => (IReadOnlyList<DayOfWeek>)[.. d]);
        var time = Gen.Select(days, Gen.Int[0, 1439], Gen.Int[1, 1440]).Where(t => t.Item2 != t.Item3)
            .Select(t => new QuietTime(t.Item1, t.Item2, t.Item3));
        Gen.Select(zones, time.List[1, 4], Gen.Int[0, 60 * 24 * 365], Gen.Int[0, 60 * 24 * 2 - 1]).Sample((zone, times, start, later) =>
        {
            var hours = new QuietHours(TimeZoneInfo.FindSystemTimeZoneById(zone), times);
            var now = new DateTimeOffset(2026, 6, 1, 0, 0, 0, TimeSpan.Zero).AddMinutes(start);
            var spans = hours.Spans(now);
            for (int i = 1; i < spans.Count; i++) spans[i].From.ShouldBeGreaterThan(spans[i - 1].To);
            var at = now.AddMinutes(later);
            var local = TimeZoneInfo.ConvertTime(at, hours.Zone).DateTime;
            // Hours around a change of the clock have tests of their own.
            for (int h = -27; h <= 27; h++)
            {
                if (hours.Zone.GetUtcOffset(at.AddHours(h)) != hours.Zone.GetUtcOffset(at)) return;
            }
            spans.Any(s => s.From <= at && at < s.To).ShouldBe(times.Any(t => IsIn(t, local)), $"{zone} {at:u} {local}");
        });
    }

    static bool IsIn(QuietTime time, DateTime local)
    {
        int minute = (local.Hour * 60) + local.Minute;
        if (time.To > time.From) return time.Days.Contains(local.DayOfWeek) && minute >= time.From && minute < time.To;
        return (time.Days.Contains(local.DayOfWeek) && minute >= time.From)
            || (time.Days.Contains(local.AddDays(-1).DayOfWeek) && minute < time.To);
    }

    [Theory]
    [InlineData("[]", "quiet")]
    [InlineData("""{"hours":[{"from":"22:00","to":"06:00"}]}""", "quiet.timeZone")]
    [InlineData("""{"timeZone":"CET","hours":[{"from":"22:00","to":"06:00"}]}""", "quiet.timeZone")]
    [InlineData("""{"timeZone":"UTC","hours":[]}""", "quiet.hours")]
    [InlineData("""{"timeZone":"UTC","hours":[{"from":"24:00","to":"06:00"}]}""", "quiet.hours[0].from")]
    [InlineData("""{"timeZone":"UTC","hours":[{"from":"1:00","to":"06:00"}]}""", "quiet.hours[0].from")]
    [InlineData("""{"timeZone":"UTC","hours":[{"from":"06:00","to":"00:00"}]}""", "quiet.hours[0].to")]
    [InlineData("""{"timeZone":"UTC","hours":[{"from":"06:00","to":"06:00"}]}""", "quiet.hours[0].to")]
    [InlineData("""{"timeZone":"UTC","hours":[{"days":["monday"],"from":"06:00","to":"07:00"}]}""", "quiet.hours[0].days")]
    [InlineData("""{"timeZone":"UTC","hours":[{"from":"06:00","to":"07:00","until":1}]}""", "quiet.hours[0]")]
    public void What_is_wrong_is_named(string json, string field)
    {
        var errors = new List<FieldError>();
        using var document = JsonDocument.Parse(json);
        QuietHours.Read(document.RootElement, "quiet", errors).ShouldBeNull();
        errors.Select(e => e.Field).ShouldBe([field]);
    }

    [Fact]
    public void The_stored_form_comes_back()
    {
        const string text =
            """{"timeZone":"Europe/Berlin","hours":[{"days":["sat","sun"],"from":"22:00","to":"08:00"},{"from":"12:00","to":"24:00"}]}""";
        Read(text).ToText().ShouldBe(text);
        QuietHours.OfText(text)!.ToText().ShouldBe(text);
        QuietHours.OfText("").ShouldBeNull();
    }
}
