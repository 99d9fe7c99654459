using System.CommandLine;
using System.Globalization;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett policies</c></summary>
static class PoliciesCommand
{
    public static Command Build() => new("policies", """
        Who may subscribe to, follow, say something on and see presence on which topics.

        Example:
          rovett policies load policies.yaml
        """) { Show(), Put("check"), Put("load") };

    static Command Show()
    {
        var connection = new Connection();
        var version = new Option<long?>("--version-number") { Description = "Earlier version, by its number." };
        var command = new Command("show", """
            Show the policies in effect, or an earlier version.

            Example:
              rovett policies show
            """) { version };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get,
                "/v1/policies" + (parsed.GetValue(version) is { } number ? $"?version={number}" : ""), cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                var policies = answer["policies"]!.AsArray();
                AnsiConsole.MarkupLine((long)answer["version"]! == 0
                    ? "No policies loaded: topics need a grant."
                    : $"Version [bold]{answer["version"]}[/], loaded {((string)answer["loaded"]!)[..16].Replace('T', ' ')}");
                var table = new Table().Border(TableBorder.None)
                    .AddColumns("[grey]policy[/]", "[grey]topic[/]", "[grey]lets[/]", "[grey]when[/]");
                foreach (var p in policies)
                {
                    string Rights(string member, string word) =>
                        p![member] is JsonArray rights ? $"{word} {string.Join(", ", rights.Select(r => (string?)r))}" : "";
                    table.AddRow(Output.Plain((string?)p!["name"]), Output.Plain((string?)p["topic"]),
                        Rights("may", "[green]may[/]") + Rights("never", "[red]never[/]"),
                        Output.Plain(p["when"]!.ToJsonString()) + (p["ask"] is { } ask ? $", asks {Output.Plain((string?)ask)}" : ""));
                }
                if (policies.Count > 0) AnsiConsole.Write(table);
            }
            return 0;
        }));
        return command;
    }

    static Command Put(string verb)
    {
        bool load = verb == "load";
        var connection = new Connection();
        var file = new Argument<string>("file") { Description = "YAML or JSON file; - for standard input." };
        var inPlaceOf = new Option<long?>("--in-place-of") { Description = "Load only if this version is still in effect." };
        var command = new Command(verb, load ? """
            Load policies, all or none, in place of those in effect. Users who lose a topic lose it at once.

            Example:
              rovett policies load policies.yaml
            """ : """
            Check policies without loading them.

            Example:
              rovett policies check policies.yaml
            """) { file };
        if (load) command.Options.Add(inPlaceOf);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var document = Yaml.Read(parsed.GetValue(file)!);
            using var client = connection.Backend(parsed);
            var expected = load ? parsed.GetValue(inPlaceOf)?.ToString(CultureInfo.InvariantCulture) : null;
            var answer = await client.Call(HttpMethod.Put, "/v1/policies" + (load ? "" : "?dryRun=true"), document, ifMatch: expected,
                cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine(load
                    ? $"[green]Loaded[/] {answer["policies"]} policies as version {answer["version"]}; in effect now."
                    : $"[green]Valid[/]: {answer["policies"]} policies. Nothing changed.");
            }
            return 0;
        }));
        return command;
    }
}
