using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>The log as machines read it.</summary>
public sealed class LogTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-log-").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    [Fact]
    public async Task It_can_be_lines_of_JSON_in_a_file()
    {
        var file = Path.Combine(folder, "rovett-.log");
        using (var service = await ServiceProcess.Start(folder, ["--log-format", "json", "--log-file", file], log: "verbose"))
        {
            (await service.Terminate()).ShouldBe(0);
            service.Printed.ShouldNotContain("@t");
        }
        var written = Directory.GetFiles(folder, "rovett-*.log").ShouldHaveSingleItem();
        var lines = (await File.ReadAllLinesAsync(written, TestContext.Current.CancellationToken)).Select(l => JsonNode.Parse(l)!).ToList();
        lines.Count.ShouldBeGreaterThan(0);
        lines.ShouldAllBe(l => l["@t"] != null && l["@m"] != null);
    }

    [Fact]
    public async Task A_format_or_a_file_that_can_not_be_is_refused()
    {
        var run = await ServiceProcess.Cli(["serve", "--data", folder, "--log-format", "xml", "--log-file", Path.Combine(folder,
            "none", "rovett.log")]);
        run.ExitCode.ShouldBe(2);
        run.Error.ShouldContain("--log-format: 'xml' is not a format; give text or json");
        run.Error.ShouldContain("--log-file: the folder of ");
    }
}
