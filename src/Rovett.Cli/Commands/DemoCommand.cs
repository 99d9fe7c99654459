using System.CommandLine;
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
        var command = new Command("demo", """
            A working day at Marrow Sound Ferries: starts the service on its own folder, plays the story with real
            clients, checks what each of them sees, and serves a crew page.

            Example:
              rovett demo
            """) { port, page, stay, once, pace, every, ready };
        command.SetAction((parsed, cancel) => Output.Guard(() => Run(parsed.GetValue(port), parsed.GetValue(page),
            parsed.GetValue(stay) || (!parsed.GetValue(once) && !Console.IsOutputRedirected), TimeSpan.FromSeconds(parsed.GetValue(pace)),
            parsed.GetValue(every), parsed.GetValue(ready), cancel)));
        return command;
    }

    static async Task<int> Run(int port, int pagePort, bool stay, TimeSpan pace, double every, string? readyFile, CancellationToken cancel)
    {
        var folder = Directory.CreateTempSubdirectory("rovett-demo-");
        try
        {
            var scenario = Scenario.Read(Path.Combine(AppContext.BaseDirectory, "demo", "scenario.yaml"));
            RovettService? service = null;
            RovettClient? sender = null;
            string Token(Person person) =>
                Connection.MakeToken(service!.Credentials[0].TokenSigningSecret, person.Id, person.Roles, TimeSpan.FromHours(2));
            try
            {
                var faults = new FaultSwitches();
                await using var office = await BackOffice.Start(pagePort, scenario, () => new Uri(service!.Url), Token,
                    () => sender!, faults);
                var options = new RovettOptions
                {
                    Data = folder.FullName,
                    Port = port,
                    Origins = [office.Url],
                    Log = "warning",
                    ReconnectWindowSeconds = 0
                };
                await using (service = RovettService.Create(options, faults: faults))
                {
                    await service.Start();
                    using (sender = new RovettClient(new Uri(service.Url), service.Credentials[0].AdminKey))
                    {
                        AnsiConsole.MarkupLineInterpolated($"[bold]Marrow Sound Ferries[/] on Rovett at {service.Url}");
                        AnsiConsole.MarkupLineInterpolated($"  crew page   [bold]{office.Url}/crew/[/]   two people side by side");
                        Console.Out.WriteLine($"  console     {service.Url}/console#sign-up={service.ConsoleLink}");
                        if (readyFile is not null) RovettService.WriteSecretFile(readyFile, JsonSerializer.SerializeToUtf8Bytes(new
                        {
                            crew = office.Url + "/crew/",
                            service = service.Url,
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
                        int failed = await new Story(scenario, new Uri(service.Url), faults, Token, sender, pace, DemoRules()).Tell();
                        AnsiConsole.WriteLine();
                        AnsiConsole.MarkupLine(failed == 0
                            ? "[green]All checks passed.[/]"
                            : $"[red]{failed} checks failed.[/]");
                        if (stay) await GoOn(scenario, sender, every, cancel);
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

    static async Task GoOn(Scenario scenario, RovettClient sender, double every, CancellationToken cancel)
    {
        var pace = every > 0 ? $": an event every {every:0.#} seconds" : "";
        AnsiConsole.MarkupLineInterpolated($"[grey]The day continues{pace}. Open the crew page; stop with Ctrl-C.[/]");
        if (every <= 0)
        {
            await Task.WhenAny(Task.Delay(Timeout.Infinite, cancel));
            return;
        }
        for (int i = 0; !cancel.IsCancellationRequested; i++)
        {
            await Task.WhenAny(Task.Delay(TimeSpan.FromSeconds(every), cancel));
            if (!cancel.IsCancellationRequested)
            {
                await sender.Send(scenario.Day[i % scenario.Day.Count].DeepClone(), cancel: CancellationToken.None);
            }
        }
    }
}
