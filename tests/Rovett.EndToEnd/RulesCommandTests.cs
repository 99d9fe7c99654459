using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>Rules and events on the command line, with the demo's rules.</summary>
public sealed class RulesCommandTests : CommandLineGround
{
    const string Check = """{"id":91,"vessel":{"id":"turnstone","name":"Turnstone"},"check":"bow thruster","hours":52,"priority":"high"}""";

    readonly string rules = Path.Combine(ServiceProcess.Root, "demo", "rules.yaml");

    string FileWith(string text)
    {
        var file = Path.Combine(Folder, Guid.NewGuid() + ".yaml");
        File.WriteAllText(file, text);
        return file;
    }

    [Fact]
    public async Task Rules_are_checked_and_tested_without_a_service()
    {
        var good = await ServiceProcess.Cli(["rules", "check", rules], new Dictionary<string, string>());
        (good.ExitCode, good.Out.Trim()).ShouldBe((0, "Valid: 11 rules, 13 tests."));

        var slip = await ServiceProcess.Cli(["rules", "check",
            FileWith(File.ReadAllText(rules).Replace("atLeast", "atleast", StringComparison.Ordinal))], new Dictionary<string, string>());
        slip.ExitCode.ShouldBe(2);
        slip.Error.ShouldContain("47:22 rules[0].when.data:/hours.atleast is unknown; did you mean 'atLeast'?");

        var differs = FileWith(File.ReadAllText(rules).Replace("52 hours since", "53 hours since", StringComparison.Ordinal));
        var failed = await ServiceProcess.Cli(["rules", "test", differs], new Dictionary<string, string>());
        (failed.ExitCode, failed.Out.Contains("12 passed, 1 failed.", StringComparison.Ordinal)).ShouldBe((1, true), failed.Out);
        var refused = await Cli("rules", "load", differs);
        (refused.ExitCode, refused.Error.Contains("1 of 13 tests failed; nothing was loaded.", StringComparison.Ordinal)).ShouldBe(
            (2, true));
        ((long)(await Json("rules", "list"))["version"]!).ShouldBe(0);
    }

    [Fact]
    public async Task An_event_is_tried_published_shown_and_retried()
    {
        (await Cli("rules", "load", rules)).ExitCode.ShouldBe(0);
        var low = FileWith(
            $$"""{"type":"engine.check.due","source":"/planning/1","data":{{Check.Replace("52", "12", StringComparison.Ordinal)}}}""");
        (await Cli("rules", "try", low)).Out.ShouldContain("data:/hours is 12; must be at least 50");

        var published = await Json("event", "publish", "--type", "engine.check.due", "--source", "/planning/1", "--id", "c91",
            "--data", Check);
        ((string)published["matched"]![0]!).ShouldBe("Engine check due");
        (await Cli("event", "show", "--source", "/planning/1", "c91")).Out.ShouldContain((string)published["notifications"]![0]!["id"]!);

        var aside = await Json("event", "publish", "--type", "sailing.delayed", "--data",
            """{"id":"k","sailing":"Kittiwake 09:40","minutes":5,"crew":["teo/2"]}""");
        var number = aside["setAside"]!["number"]!.ToString();
        (await Cli("set-aside", "list")).Out.ShouldContain("contains '/'");
        (await Cli("set-aside", "show", number)).Out.ShouldContain("Kittiwake 09:40");
        (await Cli("set-aside", "retry", number)).ExitCode.ShouldBe(1);
        number = (await Json("set-aside", "list"))["items"]![0]!["number"]!.ToString();
        (await Cli("set-aside", "retry", number, "--data", """{"id":"k","sailing":"K","minutes":5,"crew":["teo"]}""")).ExitCode.ShouldBe(0);
        (await Cli("set-aside", "list")).Out.ShouldContain("Nothing is set aside.");
        ((long)(await Json("rules", "list"))["rules"]![2]!["matched"]!).ShouldBe(1);
    }

    [Fact]
    public async Task Events_of_a_file_are_published_with_a_line_for_each_that_is_refused()
    {
        (await Cli("rules", "load", rules)).ExitCode.ShouldBe(0);
        var file = FileWith("""{"specversion":"1.0","id":"1","source":"/h","type":"berth.moored","data":{"berth":3,"what":"moored"}}""" +
            "\nno\n");

        var run = await Cli("event", "publish", "--file", file);

        run.ExitCode.ShouldBe(2);
        run.Out.ShouldContain("1 taken, 1 refused. Notifications: 1.");
        (await Cli("event", "publish")).ExitCode.ShouldBe(2);
        (await Cli("event", "publish", "--type", "x", "--data", "{")).Error.ShouldContain("--data is not JSON");
    }
}
