using System.CommandLine;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett console</c></summary>
static class ConsoleCommand
{
    public static Command Build() => new("console", """
        Invite operators to the console.

        Example:
          rovett console link
        """) { Link() };

    static Command Link()
    {
        var connection = new Connection();
        var may = new Option<string>("--may")
        {
            Description = "Right of the operator: view or operate.",
            DefaultValueFactory = _ => "operate"
        };
        may.AcceptOnlyFromAmong("view", "operate");
        var command = new Command("link", """
            Print a one-time sign-up link for the console (15 minutes). Needs an admin key of the space main; the service keeps running.

            Example:
              rovett console link
              rovett console link --may view
            """) { may };
        Connection.Add(command, connection.Url, connection.Key, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer =
                (await client.Call(HttpMethod.Post, "/v1/console-links", new JsonObject { ["may"] = parsed.GetValue(may) }, cancel))!;
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLineInterpolated(
                    $"Sign up once within {(int)answer["minutes"]!} minutes (may {(string)answer["may"]!}):");
                Console.Out.WriteLine((string?)answer["link"]);
            }
            return 0;
        }));
        return command;
    }
}
