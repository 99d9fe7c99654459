using System.Text.RegularExpressions;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary><c>rovett types</c>: catalogues are checked, loaded and listed, and programs get types of them.</summary>
public sealed class TypesCommandTests : CommandLineGround
{
    static readonly string Demo = Path.Combine(ServiceProcess.Root, "demo", "rules.yaml");

    [Theory]
    [InlineData("typescript", "demo/crew/src/types.ts")]
    [InlineData("csharp", "src/Rovett.Cli/Demo/Types.cs")]
    public async Task The_types_of_the_demo_are_those_of_its_catalogue(string language, string file)
    {
        var run = await ServiceProcess.Cli(["types", "generate", Demo, "--for", language, "--namespace", "Rovett.Cli.Demo"]);
        run.ExitCode.ShouldBe(0, run.Error);
        run.Out.ShouldBe(await File.ReadAllTextAsync(Path.Combine(ServiceProcess.Root, file)));
    }

    [Fact]
    public async Task Names_that_are_the_same_in_the_language_are_told_apart()
    {
        var file = Path.Combine(Folder, "same.yaml");
        await File.WriteAllTextAsync(file, """
            types: { event.types: {}, a-b: {}, a.b: {} }
            events:
              a.b: { data: { properties: { aB: { type: string }, a-b: { type: string }, toString: { type: string }, aBEvent: { type: string } } } }
              a-b: { data: { properties: { id: { type: string } } } }
              event.types: {}
            """);
        var run = await ServiceProcess.Cli(["types", "generate", file, "--for", "csharp"]);
        run.ExitCode.ShouldBe(0, run.Error);
        Regex.Matches(run.Out, @"public (?:const string|string\?|sealed record) (\w+)").Select(m => m.Groups[1].Value).ShouldBe(
            ["EventTypes", "AB", "AB2", "AB", "AB2", "EventTypes2", "ABEvent", "AB", "AB2", "ToString2", "ABEvent2", "ABEvent2", "Id"]);
    }

    [Fact]
    public async Task A_catalogue_is_checked_loaded_and_listed()
    {
        var file = Path.Combine(Folder, "types.yaml");
        await File.WriteAllTextAsync(file, "types:\n  engine.alarm: { name: Alarms, allways: true }\n");
        var wrong = await Cli("types", "check", file);
        (wrong.ExitCode, wrong.Error.Contains("did you mean 'always'?", StringComparison.Ordinal)).ShouldBe((2, true), wrong.Error);
        wrong.Error.ShouldContain("2:33");

        await File.WriteAllTextAsync(file, "types:\n  engine.alarm: { name: Alarms, always: true, data: { properties: { engine: { type: integer } } } }\n");
        var loaded = await Cli("types", "load", file);
        loaded.ExitCode.ShouldBe(0, loaded.Error);
        var listed = await Cli("types", "list");
        listed.Out.ShouldContain("engine.alarm");
        listed.Out.ShouldContain("Alarms");
        listed.Out.ShouldContain("engine");
        (await Cli("types", "load", file, "--in-place-of", "99")).ExitCode.ShouldNotBe(0);
        (await Cli("types", "generate", file, "--for", "cobol")).ExitCode.ShouldBe(2);
    }
}
