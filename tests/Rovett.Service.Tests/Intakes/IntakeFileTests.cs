using System.Text;
using Rovett.Core.Yaml;
using Rovett.Service.Intakes.Reading;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Intakes;

/// <summary>The file of intakes: everything wrong is told at once, with its place.</summary>
public sealed class IntakeFileTests
{
    static string[] Mistakes(string yaml)
    {
        var mistakes = new List<RuleMistake>();
        IntakeFile.Read(Encoding.UTF8.GetBytes(yaml), mistakes);
        return [.. mistakes.Select(m => $"{m.Line} {m.Field} {m.Detail}")];
    }

    [Fact]
    public void Everything_wrong_is_told_at_once()
    {
        var mistakes = Mistakes("""
            intakes:
              - name: Planning Office
                outbox: { host: db, user: rovett, password: hunter2, tabel: x, tls: sometimes, keep: soon }
              - name: a
                types: ["eng*ine"]
                udp: { listen: "0.0.0.0:7500", lines: text, match: '(?<=x)y' }
              - name: a
                tcp: { listen: nowhere, lines: data, event: { type: t, source: /s, data: { v: "{{ vessel }}" } } }
              - name: b
                schedule: { cron: "0 25 * * *", at: now, zone: Mars/Base }
              - name: c
              - name: d
                stdin: {}
                udp: { listen: "127.0.0.1:7501" }
                speed: 3
            """);
        string[] expected =
        [
            "2 intakes[0].name must be of a-z, 0-9 and -, at most 64",
            "3 intakes[0].outbox needs 'database'",
            "3 intakes[0].outbox.password must say where the secret is",
            "3 intakes[0].outbox.tabel is unknown; did you mean 'table'?",
            "3 intakes[0].outbox.tls must be disable or prefer or require or verify-full",
            "3 intakes[0].outbox.keep must be a duration",
            "5 intakes[1].types 'eng*ine' can have '*' only at its end",
            "6 intakes[1].udp.listen is reachable from other machines; name the networks",
            "6 intakes[1].udp.match is no regular expression that can be used here",
            "6 intakes[1].udp needs 'event' with 'lines: text'",
            "7 intakes[2].name is used by another intake: 'a'",
            "8 intakes[2].tcp.listen must be an IP address and a port",
            "8 intakes[2].tcp.event.data.v uses 'vessel', which is not there; there is data",
            "10 intakes[3].schedule needs either 'cron' (times that come again) or 'at' (one time)",
            "10 intakes[3].schedule.zone 'Mars/Base' must be a time zone",
            "10 intakes[3].schedule needs 'event'",
            "11 intakes[4] does not say where events come from",
            "12 intakes[5] has udp and stdin; an intake has one of them",
            "15 intakes[5].speed is unknown",
        ];
        foreach (var line in expected) mistakes.ShouldContain(m => m.StartsWith(line, StringComparison.Ordinal), line);
        mistakes.ShouldNotContain(m => m.Contains("hunter2"));
    }

    [Fact]
    public void A_sound_file_is_read()
    {
        var mistakes = new List<RuleMistake>();
        var found = IntakeFile.Read("""
            intakes:
              - name: planning
                space: crew
                types: [engine.*]
                outbox: { host: 127.0.0.1, database: planning, user: rovett, password: { env: PLANNING_PASSWORD } }
              - name: morning
                schedule: { cron: "0 6 * * *", zone: Europe/Amsterdam, event: { type: day.begins, source: /clock } }
            """u8, mistakes);
        mistakes.ShouldBeEmpty();
        found.Select(f => $"{f.Space}/{f.Name} {f.Kind.Word} {f.Kind.From}").ShouldBe(
            ["crew/planning outbox 127.0.0.1:5432/planning rovett_outbox", "main/morning schedule 0 6 * * *, Europe/Amsterdam"]);
    }
}
