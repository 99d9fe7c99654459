using System.Diagnostics;
using System.Text.Json.Nodes;
using Rovett.Cli.Load;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary><c>rovett size</c> and <c>rovett load</c>.</summary>
public sealed class PlanningTests : CommandLineGround
{
    [Fact]
    public async Task A_load_test_counts_what_arrives_and_leaves_nothing_behind()
    {
        var page = Path.Combine(Folder, "load.html");
        foreach (var transport in new[] { "websocket", "sse", "long-poll" })
        {
            var run = await Cli("load", "--sessions", "24", "--sends", "20", "--fan-out", "8", "--for", "2s", "--transport", transport,
                "--json",
                "--report", page);
            run.ExitCode.ShouldBe(0, run.Error + run.Out);
            var said = JsonNode.Parse(run.Out)!;
            int sent = (int)said["sent"]!;
            sent.ShouldBeInRange(30, 40);
            ((int)said["deliveries"]!, (int)said["missing"]!, (int)said["twice"]!).ShouldBe((sent * 8, 0, 0));
            ((double)said["deliveryMs"]!["p50"]!).ShouldBeInRange(0.1, 2000);
            var report = await File.ReadAllTextAsync(page, TestContext.Current.CancellationToken);
            report.Split("<svg").Length.ShouldBe(3);
            report.ShouldContain("Everything arrived exactly once.");
        }
        (await Json("space", "list"))["spaces"]!.AsArray().ShouldHaveSingleItem();
    }

    [Fact]
    public async Task A_load_test_is_bounded_and_needs_a_word_for_another_machine()
    {
        foreach (var (args, named) in new (string[], string)[]
        {
            (["--url", "http://10.0.0.1:7411"], "--i-own-this-service"), (["--sessions", "0"], "--sessions"), (["--sessions", "20001"],
                "--sessions"),
            (["--sends", "10001"], "--sends"), (["--fan-out", "201"], "--fan-out"), (["--for", "11m"], "--for"), (["--for", "soon"],
                "--for"),
            (["--report", Path.Combine(Folder, "none", "x.html")], "--report"),
        })
        {
            var run = await Cli(["load", .. args]);
            run.ExitCode.ShouldBe(2, string.Join(' ', args));
            run.Error.ShouldContain(named);
        }
    }

    [Fact]
    public void What_is_missing_and_what_came_twice_is_told()
    {
        var plan = new LoadPlan(5, 10, 2, TimeSpan.FromSeconds(1), LiveTransport.WebSocket);
        (plan.Groups, plan.SizeOf(0), plan.SizeOf(2)).ShouldBe((3, 2, 1));
        var count = new LoadCount(plan) { Began = Stopwatch.GetTimestamp() };
        long now = Stopwatch.GetTimestamp();
        count.Delivered(0, now);
        count.Answered(0, 0, now);
        count.Judge().ShouldBe((2, 1, 0));
        count.Delivered(0, now);
        count.Judge().ShouldBe((2, 0, 0));
        count.Answered(1, 2, now);
        count.Delivered(1, now);
        count.Delivered(1, now);
        count.Judge().ShouldBe((3, 0, 1));
        count.Delivered(2, now); // of a send that was not answered nothing is known
        count.Judge().ShouldBe((3, 0, 1));
        (count.Sent, count.Delivery.TotalCount).ShouldBe((2, 5L));
    }

    [Fact]
    public async Task A_size_is_what_its_constants_make()
    {
        var size = await Json("size", "--users", "10000", "--sessions", "5000", "--sends-per-day", "864000", "--fan-out", "10",
            "--keep-for", "10d",
            "--content-bytes", "200");
        double Of(string name) => (double)size[name]!;
        (Of("peakSendsPerSecond"), Of("peakDeliveriesPerSecond")).ShouldBe((100,
            500)); // ten a second on average, half of the people connected
        Of("coresBusy").ShouldBe(((100 * (280 + (4 * 24))) + (250 * 24)) / 1e6, 0.006);
        Of("diskGB").ShouldBe(864_000.0 * 10 * (220 + 200 + (10 * 60)) / 1e9, 0.01);
        (Of("cores"), Of("nodes")).ShouldBe((1, 1));
        // More of anything is never less of something.
        var more = await Json("size", "--users", "1000000", "--sessions", "500000", "--sends-per-day", "86400000", "--fan-out", "10",
            "--keep-for",
            "20d", "--content-bytes", "200", "--on-database");
        foreach (var name in new[] { "peakSendsPerSecond", "coresBusy", "cores", "memoryMB", "diskGB", "networkMbitPerSecond", "nodes" })
        {
            ((double)more[name]!).ShouldBeGreaterThan(Of(name), name);
        }
        // The page names each number.
        var page = await File.ReadAllTextAsync(Path.Combine(ServiceProcess.Root, "docs", "planning.md"),
            TestContext.Current.CancellationToken);
        foreach (var constant in size["constants"]!.AsArray()) page.ShouldContain($"| {constant!["value"]} {constant["unit"]}");
        var wrong = await Cli("size", "--users", "10", "--sessions", "5", "--sends-per-day", "1", "--fan-out", "11");
        wrong.ExitCode.ShouldBe(2);
        wrong.Error.ShouldContain("--fan-out: a notification can't reach 11 of 10 people.");
    }
}
