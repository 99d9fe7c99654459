using System.CommandLine;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett explain</c></summary>
static class ExplainCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var user = new Option<string>("--user") { Description = "User id.", Required = true };
        var on = new Option<string>("--on")
        { Description = "Address: topic:berth/3, role:engineer, user:mara or everyone.", Required = true };
        var command = new Command("explain", """
            Explain whether a user is on a channel: every step of the decision, and what would change it.

            Example:
              rovett explain --user teo --on topic:berth/3
            """) { user, on };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get,
                $"/v1/explain?user={Uri.EscapeDataString(parsed.GetValue(user)!)}&on={Uri.EscapeDataString(parsed.GetValue(on)!)}",
                cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else Print(answer);
            return 0;
        }));
        return command;
    }

    static void Print(JsonNode answer)
    {
        bool isOn = (bool)answer["onChannel"]!;
        AnsiConsole.MarkupLine($"[bold]{Output.Plain((string?)answer["user"])}[/] is {(isOn ? "[green]on[/]" : "[red]not on[/]")} the " +
            $"channel of [bold]{Output.Plain((string?)answer["on"])}[/] now.");
        Steps(answer["steps"]!.AsArray());
        foreach (var right in answer["rights"]?.AsArray() ?? [])
        {
            var decision = (string)right!["decision"]!;
            AnsiConsole.MarkupLine($"\n[bold]{right["right"]}[/]: [{Colour(decision)}]{decision}[/], {Output.Plain((string?)right["by"])}");
            Steps(right["steps"]!.AsArray());
        }
    }

    static string Colour(string word) =>
        word is "allow" or "allows" ? "green" : word is "deny" or "forbids" ? "red" : word is "ask" or "asks" ? "blue" : "grey";

    static void Steps(JsonArray steps)
    {
        var table = new Table().Border(TableBorder.None).HideHeaders().AddColumns("", "", "", "");
        foreach (var step in steps)
        {
            var outcome = (string)step!["outcome"]!;
            var fix = step["fix"] is { } m ? $"\n[grey]fix: {Output.Plain((string?)m)}[/]" : "";
            table.AddRow(" ", Output.Plain((string?)step["what"]), $"[{Colour(outcome)}]{outcome}[/]",
                Output.Plain((string?)step["why"]) + fix);
        }
        AnsiConsole.Write(table);
    }
}
