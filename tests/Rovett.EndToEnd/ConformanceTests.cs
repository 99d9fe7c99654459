using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>Both clients hold the recorded conversations, and one that does not is found out.</summary>
public sealed class ConformanceTests
{
    static readonly string TypeScript = $"node --experimental-websocket --no-warnings " +
        $"{Path.Combine(ServiceProcess.Root, "clients", "typescript", "build", "tests", "conformance.js")}";
    static readonly string DotNet = $"dotnet " +
        $"{Path.Combine(ServiceProcess.Root, "tests", "Rovett.Conformance", "bin", "Release", "net10.0", "Rovett.Conformance.dll")}";

    static async Task<(Run Run, JsonNode Report)> Conformance(string client, params string[] more)
    {
        var run = await ServiceProcess.Cli(["conformance", "--client", client, "--json", .. more], seconds: 240);
        return (run, run.Out.Length > 0 ? JsonNode.Parse(run.Out)! : new JsonObject());
    }

    [Theory]
    [InlineData("TypeScript", 0)]
    [InlineData(".NET", 15)]
    public async Task The_client_holds_every_conversation_over_every_transport(string which, int leftOut)
    {
        var (run, report) = await Conformance(which == ".NET" ? DotNet : TypeScript);
        var results = report["results"]!.AsArray();
        results.Where(r => (string)r!["outcome"]! == "failed").Select(r => $"{r!["conversation"]} {r["transport"]}: {r["why"]}")
            .ShouldBeEmpty();
        results.Count(r => (string)r!["outcome"]! == "skipped").ShouldBe(leftOut);
        results.Count.ShouldBeGreaterThan(50);
        run.ExitCode.ShouldBe(0);
    }

    [Theory]
    [InlineData("""echo '{"can":[]}'; sleep 60""", "it does not ask for a session")]
    [InlineData("""echo nothing to say""", "the client has ended: nothing to say")]
    [InlineData("""echo '{"can":[]}'; echo '{"handled":{"id":"1"}}'; curl -sN -H 'Authorization: Bearer t' -H 'Accept: application/json' $ROVETT_URL/v1/live; sleep 60""", """it sees {"handled":{"id":"1"}}""")]
    public async Task A_client_that_does_something_else_is_told_where(string script, string why)
    {
        var (run, report) = await Conformance($"/bin/sh -c '{script.Replace("'", "'\\''")}'", "--only", "01");
        run.ExitCode.ShouldBe(1);
        ((bool)report["conforms"]!).ShouldBeFalse();
        report["results"]!.AsArray().Select(r => (string?)r!["why"] ?? "").ShouldContain(w => w.Contains(why, StringComparison.Ordinal));
    }

    [Fact]
    public async Task What_is_not_there_is_named_with_its_mend()
    {
        var (run, _) = await Conformance("true", "--only", "nonsense");
        (run.ExitCode, run.Error).ShouldSatisfyAllConditions(r => r.ExitCode.ShouldBe(2), r => r.Error.ShouldContain("01-first-words"));
        (await Conformance("true", "--conversations", "/nowhere")).Run.Error.ShouldContain("docs/conformance");
    }
}
