using System.CommandLine;
using System.Globalization;
using System.Text.Json.Nodes;
using Rovett.Cli.Load;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett size</c></summary>
static class SizeCommand
{
    static readonly CultureInfo C = CultureInfo.InvariantCulture;

    public static Command Build()
    {
        var users = new Option<long>("--users") { Description = "People who are known.", Required = true };
        var sessions = new Option<long>("--sessions") { Description = "Devices that are connected at a time, at most.", Required = true };
        var sends = new Option<double>("--sends-per-day") { Description = "Notifications sent a day.", Required = true };
        var fanOut = new Option<double>("--fan-out")
        { Description = "People whom a notification reaches, on average.", DefaultValueFactory = _ => 1 };
        var peak = new Option<double>("--peak")
        { Description = "How many times the day's average is sent in the busiest minutes.", DefaultValueFactory = _ => 10 };
        var content = new Option<int>("--content-bytes")
        { Description = "Bytes of a notification's title, body, data and link.", DefaultValueFactory = _ => 250 };
        var keep = new Option<string>("--keep-for")
        { Description = "For how long notifications are kept.", DefaultValueFactory = _ => "90d" };
        var database = new Option<bool>("--on-database") { Description = "Everything is stored in PostgreSQL." };
        var json = new Option<bool>("--json") { Description = "Print JSON." };
        var command = new Command("size", """
            Work out processors, memory, disk and network from how the service is used. The numbers that it is worked out with were
            measured, and are printed; 'rovett load' measures your own machine.

            Example:
              rovett size --users 20000 --sessions 5000 --sends-per-day 200000 --fan-out 8 --keep-for 90d
            """) { users, sessions, sends, fanOut, peak, content, keep, database, json };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            if (!Durations.TryParse(parsed.GetValue(keep)!, out var kept) || kept <= TimeSpan.Zero)
            {
                throw new UsageException($"--keep-for: '{parsed.GetValue(keep)}' is not a time.", "Write it as 90d.");
            }
            var usage = new Usage(
                (long)Between(parsed.GetValue(users), "--users", 1, 1e10), (long)Between(parsed.GetValue(sessions), "--sessions", 0, 1e9),
                Between(parsed.GetValue(sends), "--sends-per-day", 0, 1e12), Between(parsed.GetValue(fanOut), "--fan-out", 0, 1e9),
                Between(parsed.GetValue(peak), "--peak", 1, 10_000), (int)Between(parsed.GetValue(content), "--content-bytes", 1,
                    256 * 1024),
                kept.TotalDays, parsed.GetValue(database));
            if (usage.FanOut > usage.Users)
            {
                throw new UsageException($"--fan-out: a notification can't reach {usage.FanOut} of {usage.Users} people.",
                    "Give how many people one reaches on average.");
            }
            var size = new Sizing(usage);
            if (parsed.GetValue(json)) Output.Json(Json(usage, size));
            else Print(AnsiConsole.Console, usage, size);
            return Task.FromResult(0);
        }));
        return command;
    }

    static double Between(double value, string option, double low, double high) => value >= low && value <= high ? value
        : throw new UsageException($"{option}: {value.ToString(C)} is not from {low.ToString(C)} to {high.ToString(C)}.",
            "Give a number in that range.");

    static JsonObject Json(Usage usage, Sizing size) => new()
    {
        ["peakSendsPerSecond"] = Math.Round(size.PeakSends, 1),
        ["peakDeliveriesPerSecond"] = Math.Round(size.PeakDeliveries, 1),
        ["coresBusy"] = Math.Round(size.Busy, 2),
        ["cores"] = size.Cores,
        ["memoryMB"] = Math.Round(size.Memory),
        ["diskGB"] = Math.Round(size.Disk, 2),
        ["diskGBPerDay"] = Math.Round(size.DiskADay, 3),
        ["networkMbitPerSecond"] = Math.Round(size.Network, 1),
        ["backInSeconds"] = Math.Round(size.BackIn, 1),
        ["nodes"] = size.Nodes,
        ["connectionsPerNode"] = size.Connections,
        ["writeAheadMBPerSecond"] = usage.OnDatabase ? Math.Round(size.WriteAheadRate, 2) : null,
        ["constants"] = new JsonArray([.. Sizing.Constants.Select(c => (JsonNode)new JsonObject
        { ["what"] = c.What, ["value"] = c.Value, ["unit"] = c.Unit })]),
    };

    static void Print(IAnsiConsole console, Usage usage, Sizing size)
    {
        var table = new Table().Border(TableBorder.None).HideHeaders().AddColumns("", "", "");
        table.Columns[1].Alignment = Justify.Right;
        void Row(string what, string value, string how) => table.AddRow(what, $"[bold]{Markup.Escape(value)}[/]",
            $"[grey]{Markup.Escape(how)}[/]");
        string N(double value, string form = "0.#") => value.ToString(value >= 1000 ? "#,0" : form, C);
        Row("processors", N(size.Cores), $"{N(size.Busy, "0.##")} busy in the busiest minutes: {N(size.PeakSends)} sends and " +
            $"{N(size.PeakDeliveries)} deliveries a second");
        Row("memory", size.Memory >= 1000 ? $"{N(size.Memory / 1000)} GB" : $"{N(size.Memory, "0")} MB",
            $"{N(usage.Sessions)} sessions, {N(usage.Users)} people");
        Row("disk", size.Disk >= 1 ? $"{N(size.Disk)} GB" : $"{N(size.Disk * 1000, "0")} MB",
            $"after {N(usage.DaysKept)} days, {N(size.DiskADay * 1000, "0.#")} MB more each day until then; backups need as much each");
        Row("network", $"{N(size.Network)} Mbit/s", "out, in the busiest minutes");
        Row("after a restart", $"{N(size.BackIn)} s", "until everybody is connected again");
        if (usage.OnDatabase) Row("PostgreSQL", $"{N(size.WriteAheadRate, "0.##")} MB/s",
            "of write-ahead log, in the busiest minutes; it needs processors and memory of its own");
        console.Write(table);
        console.WriteLine();
        console.MarkupLine(size.Nodes == 1
            ? usage.OnDatabase ? "One machine is enough. Three nodes let one of them die."
                : "One machine with a data folder is enough. To let a machine die, take PostgreSQL and three nodes."
            : $"That is more than one machine should carry: [bold]{Math.Max(3, size.Nodes)} nodes[/] with PostgreSQL " +
                $"(docs/cluster.md).{(usage.OnDatabase ? "" : " Ask again with --on-database.")}");
        if (size.PeakSends > Sizing.SendsOfASpace)
        {
            console.MarkupLine($"A single space takes about {N(Sizing.SendsOfASpace)} sends a second: spread them over several, or send " +
                $"to roles.");
        }
        if (size.Connections > 50_000) console.MarkupLine($"Set maxConnections and LimitNOFILE to [bold]{size.Connections + 1000}[/] or " +
            $"more on each.");
        console.WriteLine();
        console.MarkupLine("[grey]Worked out with numbers measured on two shared cores (docs/planning.md); half of the processors is " +
            "left free:[/]");
        foreach (var constant in Sizing.Constants) console.MarkupLine($"[grey]  {constant.Value.ToString(C),5} " +
            $"{constant.Unit,-6}{Markup.Escape(constant.What)}[/]");
    }
}
