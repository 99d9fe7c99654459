using System.Text;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Service.Live;
using Spectre.Console;

namespace Rovett.Cli.Demo;

/// <summary>The demo's script: what happens at Marrow Sound Ferries, what each device sees of it, and whether that is
/// what it should see. Every line with a tick was checked against the running service.</summary>
sealed class Story(Scenario scenario, Uri service, FaultSwitches faults, Func<Person, string> token, RovettClient sender, TimeSpan pause,
    string rules)
{
    static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);
    int failed;

    /// <summary>Tells it.</summary>
    /// <returns>How many checks did not hold.</returns>
    public async Task<int> Tell()
    {
        await using var desk = Device("mara", "desk");
        await using var phone = Device("mara", "phone");
        await using var ivo = Device("ivo", "phone");
        await using var teo = Device("teo", "phone");

        Chapter("The engineers' notices", "Mara Quill (engineer) has two devices, Teo Marsh (deckhand) has one.");
        foreach (var device in new[] { desk, phone, ivo, teo }) device.Connect();
        await Check("everyone is connected and up to date", () => desk.UpToDate && phone.UpToDate && ivo.UpToDate && teo.UpToDate);
        await Send(scenario.Day[0]);
        await Check("Mara's desk: the unread count goes from 0 to 1", () => desk is { Unread: 1, Got.Count: 1 });
        await Check("Mara's phone shows the same count", () => phone is { Unread: 1, Got.Count: 1 });
        await Send(scenario.Day[3]);
        await Check("Teo has his own notification and none of the engineers'",
            () => teo is { Unread: 1, Got: [var only] } && only.Title == (string)scenario.Day[3]["title"]!);

        Chapter("One person, two devices, one count", "Mara reads it on her phone.");
        await phone.Tell(new JsonObject { ["kind"] = "markRead", ["all"] = true, ["requestId"] = "read-on-phone" });
        await Check("her desk shows 0 too", () => desk.Unread == 0 && phone.Unread == 0);

        Chapter("Away during a busy hour", "Ivo Brandt (engineer) goes ashore; things happen.");
        int before = ivo.Got.Count;
        await ivo.Disconnect();
        foreach (var happened in scenario.BusyHour) await Send(happened);
        await Check("Mara received four of the five; the fifth was for Ivo alone", () => desk is { Unread: 4 });
        ivo.Connect();
        await Check("Ivo returns and receives all five, in order", () => ivo.UpToDate
            && ivo.Got.Skip(before).Select(g => g.Title).SequenceEqual(scenario.BusyHour.Select(e => (string)e["title"]!)));
        await Check("no duplicates", () => ivo.Got.DistinctBy(g => g.Id).Count() == ivo.Got.Count);

        Chapter("WebSocket switched off", "For Mara's desk, the service now acts like a proxy that blocks WebSocket.");
        int had = desk.Got.Count;
        await desk.Disconnect();
        await Send(scenario.Day[5]);
        faults.BlockWebSocket("mara-desk", true);
        desk.Connect();
        await Check("the upgrade fails; the desk connects over server-sent events", () => desk.Transport == "sse" && desk.UpToDate);
        await Send(scenario.Day[6]);
        await Check("both notifications arrived, once each",
            () => desk.Got.Count == had + 2 && desk.Got.DistinctBy(g => g.Id).Count() == desk.Got.Count);
        await Check("both devices show the same count", () => desk.Unread == phone.Unread && phone.Got.Count == desk.Got.Count);

        Chapter("A job for one of them", "Mara and Ivo both reach for it at the same moment.");
        var (mine, his) = (desk.Unread!.Value, ivo.Unread!.Value);
        var job = await Send(scenario.Job);
        await Check("both list it; both counts go up by one",
            () => desk.Lists(job) && phone.Lists(job) && ivo.Lists(job) && desk.Unread == mine + 1 && ivo.Unread == his + 1);
        await Task.WhenAll(desk.Tell(Take(job)), ivo.Tell(Take(job)));
        await Check("one of them has taken it; it left the other's list and count",
            () => desk.Lists(job) != ivo.Lists(job) && desk.Unread - mine + (ivo.Unread - his) == 1 && phone.Lists(job) == desk.Lists(job));

        Chapter("Replaced and withdrawn", "A warning is followed by a worse one; an alarm turns out to be false.");
        mine = desk.Unread!.Value;
        var gale = await Send(scenario.Warnings[0]);
        var worse = await Send(scenario.Warnings[1]);
        await Check("only the newer warning remains, counted once",
            () => desk.Lists(worse) && !desk.Lists(gale) && teo.Lists(worse) && !teo.Lists(gale) && desk.Unread == mine + 1);
        var alarm = await Send(scenario.FalseAlarm);
        await Check("the alarm arrives", () => desk.Lists(alarm) && ivo.Lists(alarm) && desk.Unread == mine + 2);
        await sender.Call(HttpMethod.Delete, $"/v1/notifications/{alarm}");
        AnsiConsole.MarkupLine($"  [grey]gone[/]  {Output.Plain((string?)scenario.FalseAlarm["title"])}");
        await Check("the withdrawn alarm leaves lists and counts",
            () => !desk.Lists(alarm) && !phone.Lists(alarm) && !ivo.Lists(alarm) && desk.Unread == mine + 1);
        Chapter("Authorization at berth 3", "Pia Vane (harbour desk) and Teo Marsh (deckhand) both subscribe to its channel.");
        await using var pia = Device("pia", "desk");
        pia.Connect();
        await Check("Pia is connected", () => pia.UpToDate);
        foreach (var device in new[] { pia, teo }) await device.Tell(Subscribe("berth/3"));
        await Check("Pia is let on; Teo is refused, without a reason",
            () => pia.IsOn("topic:berth/3") && teo.Refused == 1 && !teo.IsOn("topic:berth/3"));
        await Send(scenario.Berth[0]);
        await Check("Pia hears it, uncounted; Teo does not",
            () => pia.Heard(Title(0)) && !pia.Got.Any(g => g.Title == Title(0)) && !teo.Heard(Title(0)));
        var grant = await sender.Call(HttpMethod.Post, "/v1/grants",
            new JsonObject { ["user"] = "teo", ["topic"] = "berth/3", ["may"] = new JsonArray("subscribe"), ["for"] = "8h" });
        AnsiConsole.MarkupLine("  [grey]given[/] Teo helps out there: a grant for 8 hours");
        await teo.Tell(Subscribe("berth/3"));
        await Check("Teo is let on", () => teo.IsOn("topic:berth/3"));
        await Send(scenario.Berth[1]);
        await Check("Teo hears what is sent", () => teo.Heard(Title(1)) && pia.Heard(Title(1)));
        await sender.Call(HttpMethod.Delete, $"/v1/grants/{grant["grant"]}");
        AnsiConsole.MarkupLine("  [grey]ended[/] the grant, while he is on the channel");
        await Check("Teo leaves the channel at once", () => !teo.IsOn("topic:berth/3"));
        await Send(scenario.Berth[2]);
        await Check("only Pia hears what follows", () => pia.Heard(Title(2)) && !teo.Heard(Title(2)));
        await TellEvents(desk, phone, teo);
        return failed;

        string Title(int i) => (string)scenario.Berth[i]["title"]!;
    }

    async Task TellEvents(DemoDevice desk, DemoDevice phone, DemoDevice teo)
    {
        Chapter("From events to notifications",
            "The back office says what happened; demo/rules.yaml says whom to tell. Its minutes pass as seconds.");
        await using var ruth = Device("ruth", "phone");
        ruth.Connect();
        await Check("Ruth (duty manager) is connected", () => ruth.UpToDate);
        var loaded = await sender.Call(HttpMethod.Put, "/v1/rules", () => new StringContent(rules, Encoding.UTF8, "application/yaml"));
        AnsiConsole.MarkupLine($"  [grey]rules[/] {loaded["rules"]} loaded, {loaded["tests"]} tests passed");
        const string check =
            """{"id":91,"vessel":{"id":"turnstone","name":"Turnstone"},"check":"stern light","hours":HOURS,"priority":"high"}""";
        var tried = (await sender.Call(HttpMethod.Post, "/v1/rules/try", new JsonObject
        { ["event"] = Event("engine.check.due", "/planning/1", check.Replace("HOURS", "12", StringComparison.Ordinal)) }))["rules"]![0]!;
        AnsiConsole.MarkupLine($"  [grey]tried[/] {Output.Plain((string?)tried["rule"])}: {Output.Plain((string?)tried["because"])}");
        long mine = desk.Unread!.Value;
        await Publish("engine.check.due", "/planning/1", check.Replace("HOURS", "52", StringComparison.Ordinal));
        await Check("the engineers get the finished text",
            () => desk.Unread == mine + 1 && phone.Got[^1].Title == "Turnstone: stern light check due");

        long his = teo.Unread!.Value;
        foreach (int minutes in new[] { 10, 15, 25 })
        {
            await Publish("sailing.delayed", "/traffic",
                $$"""{"id":"kittiwake-0940","sailing":"Kittiwake 09:40","minutes":{{minutes}},"crew":["teo"]}""");
        }
        await Check("three delays reach Teo as one notification, counted once",
            () => teo.Unread == his + 1 && teo.Got[^1].Title == "3 changes to the Kittiwake 09:40, now 25 minutes late");

        await Publish("document.ready", "/documents", """{"id":418,"title":"The gearbox report of Kittiwake","signer":"mara"}""");
        await Check("Mara is asked for her signature", () => desk.Got[^1].Title == "The gearbox report of Kittiwake needs your signature");
        await Check("she does not look at it; the duty manager is told",
            () => ruth.Got is [.., var last] && last.Title == "The gearbox report of Kittiwake is still unsigned");
    }

    static JsonObject Event(string type, string source, string data) => new()
    {
        ["specversion"] = "1.0",
        ["id"] = Guid.CreateVersion7().ToString(),
        ["source"] = source,
        ["type"] = type,
        ["data"] = JsonNode.Parse(data),
    };

    async Task Publish(string type, string source, string data)
    {
        var body = Event(type, source, data).ToJsonString();
        var answer = await sender.Call(HttpMethod.Post, "/v1/events",
            () => new StringContent(body, Encoding.UTF8, "application/cloudevents+json"));
        var matched = string.Join(", ", answer["matched"]!.AsArray().Select(m => (string?)m));
        AnsiConsole.MarkupLine(
            $"  [grey]event[/] {type}  [grey]({(answer["gathering"] is null ? "" : "gathered: ")}{Output.Plain(matched)})[/]");
        await Task.Delay(pause / 3);
    }

    static JsonObject Subscribe(string topic) => new() { ["kind"] = "subscribe", ["topic"] = topic, ["requestId"] = "subscribe" };

    static JsonObject Take(string id) => new() { ["kind"] = "take", ["id"] = id, ["requestId"] = "take" };

    DemoDevice Device(string person, string label) => new(service, () => token(scenario.Find(person)), scenario.Find(person), label);

    static void Chapter(string title, string what)
    {
        AnsiConsole.WriteLine();
        AnsiConsole.MarkupLineInterpolated($"[bold teal]{title}[/]");
        AnsiConsole.MarkupLineInterpolated($"  {what}");
    }

    async Task<string> Send(JsonObject notification)
    {
        var answer = await sender.Send(notification.DeepClone());
        var reach = string.Join(", ", answer["reach"]!.AsArray()
            .Select(r => ((string)r!["address"]!).StartsWith("topic:", StringComparison.Ordinal)
            ? $"{r["address"]}: {r["connected"]} listening"
            : $"{r["address"]}: {r["connected"]} of {r["users"]} connected"));
        AnsiConsole.MarkupLine($"  [grey]sent[/]  {Output.Plain((string?)notification["title"])}  [grey]({Output.Plain(reach)})[/]");
        await Task.Delay(pause);
        return (string)answer["id"]!;
    }

    async Task Check(string what, Func<bool> holds)
    {
        var end = DateTime.UtcNow + Patience;
        while (!holds() && DateTime.UtcNow < end) await Task.Delay(20);
        bool right = holds();
        if (!right) failed++;
        AnsiConsole.MarkupLine($"  {(right ? "[green]✓[/]" : "[red]✗[/]")}     {Output.Plain(what)}");
    }
}
