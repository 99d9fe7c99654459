using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Service.Live;
using Spectre.Console;

namespace Rovett.Cli.Demo;

/// <summary>The demo's script: what happens at Marrow Sound Ferries, what each device sees of it, and whether that is
/// what it should see. Every line with a tick was checked against the running service.</summary>
sealed class Story(Scenario scenario, Uri service, FaultSwitches faults, Func<Person, string> token, RovettClient sender,
    RovettEvents events, MailCatcher mail, PlanningOffice? planning, BilgeSensors sensors, TimeSpan pause)
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
            () => teo is { Unread: 1, Got: [var only] } && only.Title == scenario.Day[3].Told);

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
            && ivo.Got.Skip(before).Select(g => g.Title).SequenceEqual(scenario.BusyHour.Select(e => e.Told)));
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
        AnsiConsole.MarkupLine($"  [grey]gone[/]  {Output.Plain(scenario.FalseAlarm.Told)}");
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
        await TellIntakes(desk);
        return failed;

        string Title(int i) => scenario.Berth[i].Told;
    }

    async Task TellEvents(DemoDevice desk, DemoDevice phone, DemoDevice teo)
    {
        Chapter("Rules",
            "The back office only says what happened; demo/rules.yaml says whom to tell. Its minutes pass as seconds.");
        await sender.Call(HttpMethod.Patch, "/v1/settings", new JsonObject { ["keepEventData"] = true }); // for trying rules in the console
        await using var ruth = Device("ruth", "phone");
        ruth.Connect();
        await Check("Ruth (duty manager) is connected", () => ruth.UpToDate);
        var check = new EngineCheckDueEvent
        {
            Id = 91,
            Vessel = new EngineCheckDueEventVessel { Id = "turnstone", Name = "Turnstone" },
            Check = "stern light",
            Hours = 12,
            Priority = "high",
        };
        var tried = (await sender.Call(HttpMethod.Post, "/v1/rules/try", new JsonObject
        { ["event"] = check.ToEvent("/planning/1").ToJson() }))["rules"]![0]!;
        AnsiConsole.MarkupLine($"  [grey]tried[/] {Output.Plain((string?)tried["rule"])}: {Output.Plain((string?)tried["because"])}");
        long mine = desk.Unread!.Value;
        await Publish((check with { Hours = 52 }).ToEvent("/planning/1"));
        await Check("the engineers get the finished text",
            () => desk.Unread == mine + 1 && phone.Got[^1].Title == "Turnstone: stern light check due");

        long his = teo.Unread!.Value;
        foreach (int minutes in new[] { 10, 15, 25 })
        {
            var delay = new SailingDelayedEvent { Id = "kittiwake-0940", Sailing = "Kittiwake 09:40", Minutes = minutes, Crew = ["teo"] };
            await Publish(delay.ToEvent("/traffic"));
        }
        await Check("three delays reach Teo as one notification, counted once",
            () => teo.Unread == his + 1 && teo.Got[^1].Title == "3 changes to the Kittiwake 09:40, now 25 minutes late");

        int mailed = mail.Caught.Count;
        var report = new DocumentReadyEvent { Id = 418, Title = "The gearbox report of Kittiwake", Signer = "mara" };
        await Publish(report.ToEvent("/documents"));
        await Check("Mara is asked for her signature", () => desk.Got[^1].Title == "The gearbox report of Kittiwake needs your signature");
        await Check("she does not look at it; the duty manager is told",
            () => ruth.Got is [.., var last] && last.Title == "The gearbox report of Kittiwake is still unsigned");
        await Check("and gets an e-mail, which the mail catcher keeps",
            () => mail.Caught.Skip(mailed).Any(m => m.Subject == "Unsigned: The gearbox report of Kittiwake"));
    }

    async Task TellIntakes(DemoDevice desk)
    {
        Chapter("Intakes", "Events are fetched where they are; demo/intakes.yaml says where.");
        if (planning is not null)
        {
            long before = desk.Unread!.Value;
            await planning.Note(Due(92, "anchor winch"), isCommitted: false);
            AnsiConsole.MarkupLine("  [grey]outbox[/] a check of the anchor winch, in a transaction that is rolled back");
            await planning.Note(Due(93, "emergency steering"));
            AnsiConsole.MarkupLine("  [grey]outbox[/] a check of the emergency steering, in a transaction that is committed");
            await Check("Mara is told of the emergency steering, and only of that",
                () => desk.Unread == before + 1 && desk.Got[^1].Title == "Sandpiper: emergency steering check due");
        }
        long mine = desk.Unread!.Value;
        foreach (int level in new[] { 31, 34, 78 })
        {
            await sensors.Send("sandpiper", level);
            AnsiConsole.MarkupLine($"  [grey]udp[/]    sandpiper bilge {level}");
        }
        await Check("two levels are calm; the third is told",
            () => desk.Unread == mine + 1 && desk.Got[^1].Title == "Sandpiper: bilge water at 78 cm");

        static BackendEvent Due(int id, string check) => new EngineCheckDueEvent
        {
            Id = id,
            Vessel = new EngineCheckDueEventVessel { Id = "sandpiper", Name = "Sandpiper" },
            Check = check,
            Hours = 55,
        }.ToEvent("/planning/1");
    }

    async Task Publish(BackendEvent happened)
    {
        var published = await events.Publish(happened);
        AnsiConsole.MarkupLine($"  [grey]event[/] {happened.Type}  " +
            $"[grey]({(published.IsGathering ? "gathered: " : "")}{Output.Plain(string.Join(", ", published.Matched))})[/]");
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

    /// <summary>Publishes what happened.</summary>
    /// <returns>The id of the notification that came of it.</returns>
    async Task<string> Send(Happening happened)
    {
        var published = await events.Publish(happened.ToEvent());
        AnsiConsole.MarkupLine($"  [grey]event[/] {happened.Type}  [grey]→[/] {Output.Plain(happened.Told)}");
        await Task.Delay(pause);
        return published.Notifications.FirstOrDefault() ?? "";
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
