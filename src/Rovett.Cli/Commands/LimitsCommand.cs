using System.CommandLine;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett limits</c></summary>
static class LimitsCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var command = new Command("limits", """
            Show every limit with its current use.

            Example:
              rovett limits
            """);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, "/v1/limits", cancel: cancel);
            if (parsed.GetValue(connection.Json))
            {
                Output.Json(answer);
                return 0;
            }
            var table = new Table().Border(TableBorder.None)
                .AddColumns("[grey]limit[/]", "[grey]set to[/]", "[grey]used now[/]", "[grey]of what[/]");
            foreach (var limit in answer["limits"]!.AsArray())
            {
                long used = (long)limit!["used"]!;
                table.AddRow(Output.Plain((string?)limit["name"]), limit["limit"]?.ToString() ?? "none", used == 0 ? "" : used.ToString(),
                    $"[grey]{Output.Plain((string?)limit["what"])}[/]");
            }
            AnsiConsole.Write(table);
            return 0;
        }));
        return command;
    }
}
