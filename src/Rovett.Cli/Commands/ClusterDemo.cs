using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Cli.Demo;
using Rovett.Client;
using Rovett.Service.Hosting;
using Rovett.Service.Live;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett demo --cluster</c>: three nodes with one PostgreSQL, a proxy in front, and what happens to them.</summary>
static class ClusterDemo
{
    const int Count = 3;

    public static async Task<int> Run(int port, int pagePort, bool stay, TimeSpan pace, double every, string? readyFile,
        CancellationToken cancel)
    {
        var folder = Directory.CreateTempSubdirectory("rovett-cluster-");
        var nodes = new DemoNode[Count];
        try
        {
            var scenario = Scenario.Read(Path.Combine(AppContext.BaseDirectory, "demo", "scenario.yaml"));
            await using var database = await DemoDatabase.Start("cluster");
            if (database is null) return Missing("PostgreSQL", "postgresql");
            await database.Create("rovett");
            var secret = Path.Combine(folder.FullName, "cluster-secret");
            await File.WriteAllTextAsync(secret, Convert.ToHexString(RandomNumberGenerator.GetBytes(32)), cancel);
            int[] ports = [.. Enumerable.Range(0, Count).Select(_ => DemoDatabase.FreePort())],
                links = [.. Enumerable.Range(0, Count).Select(_ => DemoDatabase.FreePort())];
            using var front = await DemoFront.Start(folder, port, ports);
            if (front is null) return Missing("Caddy", "caddy");
            string? tokenSecret = null;
            RovettEvents? events = null;
            string Token(Person person) => Connection.MakeToken(tokenSecret!, person.Id, person.Roles, TimeSpan.FromHours(2));
            await using var mail = new MailCatcher();
            await using var office = await BackOffice.Start(pagePort, scenario, () => front.Url, Token, () => events!, mail,
                new FaultSwitches());
            Task<DemoNode> Start(int i) => DemoNode.Start(folder, ports[i], $"https://127.0.0.1:{links[i]}", database.Connection("rovett"),
                secret, office.Url);
            for (int i = 0; i < Count; i++) nodes[i] = await Start(i);
            var credentials = nodes[0].Ready["credentials"]!;
            var key = (string)credentials["adminKey"]!;
            tokenSecret = (string)credentials["tokenSigningSecret"]!;
            using (events = new RovettEvents(new RovettSendOptions { Url = front.Url, Key = key, Retries = 12 }))
            using (var admin = new RovettClient(front.Url, key))
            {
                AnsiConsole.MarkupLineInterpolated($"[bold]Marrow Sound Ferries[/] on three nodes of Rovett behind {front.Url}");
                AnsiConsole.MarkupLineInterpolated($"  crew page   [bold]{office.Url}/crew/[/]   two people side by side");
                Console.Out.WriteLine($"  console     {(string?)nodes[0].Ready["consoleSignUp"]}");
                if (readyFile is not null) RovettService.WriteSecretFile(readyFile, JsonSerializer.SerializeToUtf8Bytes(new
                {
                    crew = office.Url + "/crew/",
                    service = front.Url.ToString().TrimEnd('/'),
                    nodes = nodes.Select(n => n.Url.ToString().TrimEnd('/')),
                    adminKey = key,
                    tokenSigningSecret = tokenSecret,
                }));
                foreach (var person in scenario.People)
                    await admin.Call(HttpMethod.Put, $"/v1/users/{person.Id}", new JsonObject { ["displayName"] = person.Name },
                        cancel: cancel);
                await admin.Call(HttpMethod.Put, "/v1/policies",
                    Yaml.Read(Path.Combine(AppContext.BaseDirectory, "demo", "policies.yaml")), cancel: cancel);
                await admin.Call(HttpMethod.Patch, "/v1/settings", DemoCommand.MailSettings(mail.Port, office.Url), cancel: cancel);
                await admin.Call(HttpMethod.Put, "/v1/rules", () => new StringContent(
                    File.ReadAllText(Path.Combine(AppContext.BaseDirectory, "demo", "rules.yaml")), Encoding.UTF8, "application/yaml"),
                    cancel);
                int failed = await new ClusterStory(scenario, front.Url, nodes, Start, database, Token, events, key, pace).Tell();
                AnsiConsole.WriteLine();
                AnsiConsole.MarkupLine(failed == 0 ? "[green]All checks passed.[/]" : $"[red]{failed} checks failed.[/]");
                if (stay) await DemoCommand.GoOn(scenario, events, null, null, every, cancel);
                return failed == 0 ? 0 : 1;
            }
        }
        finally
        {
            foreach (var node in nodes) node?.Dispose();
            folder.Delete(recursive: true);
        }
    }

    static int Missing(string what, string package)
    {
        Output.Error($"{what} is not installed here.");
        Output.Hint($"Install it (apt-get install {package}), or run 'make demo-cluster', which does.");
        return 1;
    }
}
