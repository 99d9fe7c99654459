using System.Diagnostics;
using System.Text.Json.Nodes;
using Rovett.Client;
using Spectre.Console;

namespace Rovett.Cli.Demo;

/// <summary>The script of the demo with three nodes: what happens to them, and that nobody misses anything. Every line with a tick was
/// checked against the running nodes.</summary>
sealed class ClusterStory(Scenario scenario, Uri front, DemoNode[] nodes, Func<int, Task<DemoNode>> startAgain, DemoDatabase database,
    Func<Person, string> token, RovettEvents events, string key, TimeSpan pause)
{
    static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);
    int failed, next;

    /// <summary>Tells it.</summary>
    /// <returns>How many checks did not hold.</returns>
    public async Task<int> Tell()
    {
        await using var desk = Device("mara", "desk");
        await using var phone = Device("mara", "phone");
        await using var ivo = Device("ivo", "phone");
        DemoDevice[] devices = [desk, phone, ivo];

        Chapter("Three nodes, one database", "Mara Quill and Ivo Brandt (engineers) connect through the proxy, to whichever node it is.");
        foreach (var device in devices) device.Connect();
        await Check("everyone is connected and up to date", () => devices.All(d => d.UpToDate));
        await Happens(devices, 2);
        await Show();

        int owner = await Owner();
        Chapter("The node that serves the space dies", $"kill -9 of {nodes[owner].NodeUrl}.");
        await nodes[owner].Kill();
        await Happens(devices, 3);
        await Show();
        nodes[owner] = await startAgain(owner);
        AnsiConsole.MarkupLineInterpolated($"  [grey]back[/]  {nodes[owner].NodeUrl} is started again");

        owner = await Owner();
        Chapter("Another one is paused", $"{nodes[owner].NodeUrl} is stopped by the kernel for eight seconds, and knows nothing of it.");
        await nodes[owner].Signal("STOP");
        var waking = GoOn(nodes[owner]);
        await Happens(devices, 3);
        await Check("another node serves the space by now", async () => await Owner() != owner);
        await waking;
        await Happens(devices, 1);

        owner = await Owner();
        Chapter("The third is drained for maintenance", $"rovett cluster drain {nodes[owner].NodeUrl}");
        using (var client = new RovettClient(nodes[owner].Url, key))
        {
            await client.Call(HttpMethod.Post, "/v1/cluster/drains", new JsonObject { ["node"] = nodes[owner].NodeUrl });
        }
        await Happens(devices, 2);
        await Check("it serves nothing, and the others do", async () => await Owner() != owner);
        await Show();

        Chapter("The database restarts", "PostgreSQL crashes and is started again.");
        await database.Crash();
        var published = Publish(1);
        await database.Begin();
        await published;
        await Happens(devices, 1);

        Chapter("At the end", "Everything that was answered reached everybody it was for.");
        await Check($"all {told.Count} reached Mara's desk, her phone and Ivo, each once and in the same order", () => devices.All(d =>
            d.Got.DistinctBy(g => g.Id).Count() == d.Got.Count && told.All(d.Lists)
            && d.Got.Select(g => g.Id).SequenceEqual(desk.Got.Select(g => g.Id))));
        await Check($"and all count {told.Count} unread", () => devices.All(d => d.Unread == told.Count));
        return failed;
    }

    static async Task GoOn(DemoNode node)
    {
        await Task.Delay(TimeSpan.FromSeconds(8));
        await node.Signal("CONT");
    }

    readonly List<string> told = [];

    /// <summary>Something happens that the engineers are told of, and all hear of it.</summary>
    async Task Happens(DemoDevice[] devices, int times)
    {
        await Publish(times);
        await Check("everyone was told, and the counts agree",
            () => devices.All(d => told.All(d.Lists) && d.Unread == told.Count));
        foreach (var device in devices.Where(d => d.Unread != told.Count || !told.All(d.Lists)))
        {
            AnsiConsole.MarkupLine($"        {device.Person.Name}'s {device.Label} ({device.Transport ?? "not connected"}) has " +
                $"{device.Got.Count} of {told.Count} and counts {device.Unread}");
        }
    }

    async Task Publish(int times)
    {
        for (int i = 0; i < times; i++)
        {
            var due = Due(next++);
            var clock = Stopwatch.StartNew();
            var published = await events.Publish(due);
            told.AddRange(published.Notifications);
            AnsiConsole.MarkupLine($"  [grey]event[/] {Vessel(due)}: {Output.Plain((string?)due.Data!["check"])} check due  " +
                $"[grey]answered after {clock.Elapsed.TotalSeconds:0.00} s[/]");
            await Task.Delay(pause / 3);
        }
    }

    static string Vessel(BackendEvent due) => Output.Plain((string?)due.Data!["vessel"]!["name"]);

    static readonly string[] Vessels = ["Turnstone", "Kittiwake", "Sandpiper"],
        Checks = ["bow thruster", "cooling pump", "fire pump", "stern light", "anchor winch", "gearbox oil", "bilge alarm"];

    static BackendEvent Due(int number)
    {
        var name = Vessels[number % Vessels.Length];
        return new BackendEvent("/planning/1", "engine.check.due", null, new JsonObject
        {
            ["id"] = 100 + number,
            ["vessel"] = new JsonObject { ["id"] = name.ToLowerInvariant(), ["name"] = name },
            ["check"] = Checks[number % Checks.Length],
            ["hours"] = 52,
            ["priority"] = "high",
        });
    }

    DemoDevice Device(string person, string label) => new(front, () => token(scenario.Find(person)), scenario.Find(person), label,
        TimeSpan.FromSeconds(6));

    /// <summary>The node that serves the space.</summary>
    async Task<int> Owner()
    {
        for (; ; )
        {
            var cluster = await Cluster();
            var url = (string?)cluster["spaces"]![0]!["node"];
            int found = Array.FindIndex(nodes, n => n.NodeUrl == url);
            var state = cluster["nodes"]!.AsArray().FirstOrDefault(n => (string?)n!["node"] == url)?["state"];
            if (found >= 0 && (string?)state != "silent") return found;
            await Task.Delay(100);
        }
    }

    async Task<JsonNode> Cluster()
    {
        using var client = new RovettClient(front, key);
        for (int attempt = 0; ; attempt++)
        {
            try
            {
                return await client.Call(HttpMethod.Get, "/v1/cluster");
            }
            catch (Exception error) when (error is HttpRequestException or RovettRefusedException && attempt < 100)
            {
                await Task.Delay(100);
            }
        }
    }

    async Task Show()
    {
        AnsiConsole.WriteLine();
        AnsiConsole.MarkupLine("  [grey]rovett cluster list[/]");
        var cluster = await Cluster();
        NodeTable.Print(cluster["nodes"]!.AsArray(), null);
        AnsiConsole.WriteLine();
    }

    static void Chapter(string title, string what)
    {
        AnsiConsole.WriteLine();
        AnsiConsole.MarkupLineInterpolated($"[bold teal]{title}[/]");
        AnsiConsole.MarkupLineInterpolated($"  {what}");
    }

    Task Check(string what, Func<bool> holds) => Check(what, () => Task.FromResult(holds()));

    async Task Check(string what, Func<Task<bool>> holds)
    {
        var clock = Stopwatch.StartNew();
        bool right = await holds();
        while (!right && clock.Elapsed < Patience)
        {
            await Task.Delay(20);
            right = await holds();
        }
        if (!right) failed++;
        AnsiConsole.MarkupLine($"  {(right ? "[green]✓[/]" : "[red]✗[/]")}     {Output.Plain(what)}  " +
            $"[grey]{(clock.Elapsed.TotalSeconds < 0.05 ? "" : $"after {clock.Elapsed.TotalSeconds:0.0} s")}[/]");
    }
}
