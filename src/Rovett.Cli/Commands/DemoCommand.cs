using System.CommandLine;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Cli.Demo;
using Rovett.Client;
using Rovett.Service.Hosting;
using Rovett.Service.Live;
using Rovett.Service.Options;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett demo</c></summary>
static class DemoCommand
{
    public static Command Build()
    {
        var port = new Option<int>("--port") { Description = "The service's port; 0 takes a free one.", DefaultValueFactory = _ => 7411 };
        var page = new Option<int>("--page-port")
        { Description = "The crew page's port; 0 takes a free one.", DefaultValueFactory = _ => 7412 };
        var stay = new Option<bool>("--stay")
        { Description = "Continue after the story, with an event every few seconds, until Ctrl-C. The default in a terminal." };
        var once = new Option<bool>("--once") { Description = "Exit after the story, even in a terminal." };
        var pace = new Option<double>("--pace")
        {
            Description = "Seconds between events of the story.",
            DefaultValueFactory = _ => 1.5
        };
        var every = new Option<double>("--every")
        { Description = "Seconds between events after the story; 0: none.", DefaultValueFactory = _ => 8 };
        var ready = new Option<string?>("--ready-file") { Description = "Write the URLs of the crew page and the service to this file." };
        var cluster = new Option<bool>("--cluster")
        { Description = "Three nodes with one PostgreSQL behind a Caddy: one is killed, one paused, one drained; nobody misses anything." };
        var command = new Command("demo", """
            A working day at Marrow Sound Ferries: starts the service on its own folder, plays the story with real
            clients, checks what each of them sees, and serves a crew page.

            Example:
              rovett demo
            """) { port, page, stay, once, pace, every, ready, cluster };
        command.SetAction((parsed, cancel) =>
        {
            Func<int, int, bool, TimeSpan, double, string?, CancellationToken, Task<int>> run = parsed.GetValue(cluster)
                ? ClusterDemo.Run : Run;
            return Output.Guard(() => run(parsed.GetValue(port), parsed.GetValue(page),
                parsed.GetValue(stay) || (!parsed.GetValue(once) && !Console.IsOutputRedirected),
                TimeSpan.FromSeconds(parsed.GetValue(pace)), parsed.GetValue(every), parsed.GetValue(ready), cancel));
        });
        return command;
    }

    static async Task<int> Run(int port, int pagePort, bool stay, TimeSpan pace, double every, string? readyFile, CancellationToken cancel)
    {
        var folder = Directory.CreateTempSubdirectory("rovett-demo-");
        try
        {
            var scenario = Scenario.Read(Path.Combine(AppContext.BaseDirectory, "demo", "scenario.yaml"));
            RovettService? service = null;
            RovettEvents? events = null;
            string Token(Person person) =>
                Connection.MakeToken(service!.Credentials[0].TokenSigningSecret, person.Id, person.Roles, TimeSpan.FromHours(2));
            try
            {
                var faults = new FaultSwitches();
                await using var mail = new MailCatcher();
                await using var planning = await PlanningOffice.Start();
                using var sensors = new BilgeSensors();
                await using var office = await BackOffice.Start(pagePort, scenario, () => new Uri(service!.Url), Token,
                    () => events!, mail, faults);
                var options = new RovettOptions
                {
                    Data = folder.FullName,
                    Port = port,
                    Origins = [office.Url],
                    WebhookNetworks = ["127.0.0.0/8"],
                    Intakes = await WriteIntakes(folder, planning, sensors),
                    Log = "warning",
                    ReconnectWindowSeconds = 0
                };
                await using (service = RovettService.Create(options, faults: faults))
                {
                    await service.Start();
                    var (url, key) = (new Uri(service.Url), service.Credentials[0].AdminKey);
                    using var sender = new RovettClient(url, key);
                    using (events = new RovettEvents(new RovettSendOptions { Url = url, Key = key }))
                    {
                        AnsiConsole.MarkupLineInterpolated($"[bold]Marrow Sound Ferries[/] on Rovett at {service.Url}");
                        AnsiConsole.MarkupLineInterpolated($"  crew page   [bold]{office.Url}/crew/[/]   two people side by side");
                        AnsiConsole.MarkupLineInterpolated($"  mail        {office.Url}/mail   e-mails of missed deadlines");
                        Console.Out.WriteLine($"  console     {service.Url}/console#sign-up={service.ConsoleLink}");
                        if (readyFile is not null) RovettService.WriteSecretFile(readyFile, JsonSerializer.SerializeToUtf8Bytes(new
                        {
                            crew = office.Url + "/crew/",
                            service = service.Url,
                            mail = office.Url + "/mail",
                            console = $"{service.Url}/console#sign-up={service.ConsoleLink}",
                            adminKey = service.Credentials[0].AdminKey,
                            tokenSigningSecret = service.Credentials[0].TokenSigningSecret,
                        }));
                        foreach (var person in scenario.People)
                            await sender.Call(HttpMethod.Put, $"/v1/users/{person.Id}", new JsonObject { ["displayName"] = person.Name },
                                cancel: cancel);
                        foreach (var role in scenario.People.SelectMany(p => p.Roles).Distinct())
                            await sender.Call(HttpMethod.Put, $"/v1/roles/{role}", new JsonObject { ["presence"] = "members" },
                                cancel: cancel);
                        await sender.Call(HttpMethod.Put, "/v1/policies",
                            Yaml.Read(Path.Combine(AppContext.BaseDirectory, "demo", "policies.yaml")), cancel: cancel);
                        await sender.Call(HttpMethod.Patch, "/v1/settings", MailSettings(mail.Port, office.Url), cancel: cancel);
                        var loaded = await sender.Call(HttpMethod.Put, "/v1/rules",
                            () => new StringContent(DemoRules(), Encoding.UTF8, "application/yaml"), cancel);
                        AnsiConsole.MarkupLine(
                            $"  rules       {loaded["rules"]} loaded from demo/rules.yaml, {loaded["tests"]} tests passed");
                        AnsiConsole.MarkupLine($"  intakes     {(planning is null ? "bilge sensors over UDP (no PostgreSQL is " +
                            "installed here, so there is no outbox)" : "the planning office's outbox, bilge sensors over UDP")}");
                        int failed = await new Story(scenario, url, faults, Token, sender, events, mail, planning, sensors, pace).Tell();
                        AnsiConsole.WriteLine();
                        AnsiConsole.MarkupLine(failed == 0
                            ? "[green]All checks passed.[/]"
                            : $"[red]{failed} checks failed.[/]");
                        if (stay) await GoOn(scenario, events, planning, sensors, every, cancel);
                        return failed == 0 ? 0 : 1;
                    }
                }
            }
            catch (IOException taken)
            {
                Output.Error(taken.Message);
                Output.Hint("Choose other ports with --port and --page-port, or 0 for free ones.");
                return 1;
            }
        }
        finally
        {
            folder.Delete(recursive: true);
        }
    }

    /// <summary>The rules of the demo, with seconds in place of minutes.</summary>
    static string DemoRules() => File.ReadAllText(Path.Combine(AppContext.BaseDirectory, "demo", "rules.yaml"))
        .Replace("within: 10m", "within: 4s", StringComparison.Ordinal).Replace("within: 15m", "within: 3s", StringComparison.Ordinal);

    /// <summary>The intakes of the demo, with the ports that are used here.</summary>
    static async Task<string> WriteIntakes(DirectoryInfo folder, PlanningOffice? planning, BilgeSensors sensors)
    {
        var text = await File.ReadAllTextAsync(Path.Combine(AppContext.BaseDirectory, "demo", "intakes.yaml"));
        text = text.Replace("7422", $"{sensors.Port}", StringComparison.Ordinal);
        text = planning is not null ? text.Replace("7421", $"{planning.Port}", StringComparison.Ordinal)
            : "intakes:\n" + text[text.IndexOf("  - name: bilges", StringComparison.Ordinal)..];
        var file = Path.Combine(folder.FullName, "intakes.yaml");
        await File.WriteAllTextAsync(file, text);
        return file;
    }

    internal static JsonObject MailSettings(int port, string office) => new()
    {
        ["mail"] = new JsonObject
        {
            ["host"] = "127.0.0.1",
            ["port"] = port,
            ["security"] = "none",
            ["from"] = "watch@marrowsound.example",
            ["fromName"] = "Marrow Sound Ferries",
            ["domains"] = new JsonArray("marrowsound.example"),
            ["linkBase"] = office,
        },
    };

    internal static async Task GoOn(Scenario scenario, RovettEvents events, PlanningOffice? planning, BilgeSensors? sensors, double every,
        CancellationToken cancel)
    {
        var pace = every > 0 ? $": an event every {every:0.#} seconds" : "";
        AnsiConsole.MarkupLineInterpolated($"[grey]The day continues{pace}. Open the crew page; stop with Ctrl-C.[/]");
        if (every <= 0)
        {
            await Task.WhenAny(Task.Delay(Timeout.Infinite, cancel));
            return;
        }
        var sensing = sensors?.GoOn(TimeSpan.FromSeconds(every / 2), cancel) ?? Task.CompletedTask;
        for (int i = 0; !cancel.IsCancellationRequested; i++)
        {
            await Task.WhenAny(Task.Delay(TimeSpan.FromSeconds(every), cancel));
            if (cancel.IsCancellationRequested) break;
            var next = scenario.Day[i % scenario.Day.Count].ToEvent();
            if (planning is not null && next.Type == "engine.check.due") await planning.Note(next);
            else await events.Publish(next);
        }
        await sensing;
    }
}
