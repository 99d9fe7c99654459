using System.CommandLine;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett space</c></summary>
static class SpaceCommand
{
    public static Command Build() => new("space", """
        Make, list and remove spaces: each with its own keys, users, channels, policies, limits and data. Needs an admin key of main.

        Example:
          rovett space create harbour
        """) {
        Make(), List(), Things.Show("a space", "name", "rovett space show harbour", name => "/v1/spaces/" + Uri.EscapeDataString(name)),
        Remove(),
    };

    static Command Make()
    {
        var connection = new Connection();
        var name = new Argument<string>("name") { Description = "Name of the space." };
        var command = new Command("create", """
            Create a space. Its credentials are shown only once.

            Example:
              rovett space create harbour
            """) { name };
        Connection.Add(command, connection.Url, connection.Key, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Post, "/v1/spaces", new JsonObject { ["name"] = parsed.GetValue(name) }, cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine(
                    $"[green]Created[/] the space {Output.Plain((string?)answer["name"])}; its paths begin with " +
                    $"{Output.Plain((string?)answer["path"])}. Its credentials, shown only once:");
                Console.Out.WriteLine(
                    $"  export ROVETT_SPACE={Output.Quoted((string)answer["name"]!)}\n  export ROVETT_KEY=" +
                    $"{answer["credentials"]!["adminKey"]}\n  export ROVETT_TOKEN_SECRET={answer["credentials"]!["tokenSigningSecret"]}");
            }
            return 0;
        }));
        return command;
    }

    static Command List()
    {
        var connection = new Connection();
        var command = new Command("list", """
            List the spaces.

            Example:
              rovett space list
            """);
        Connection.Add(command, connection.Url, connection.Key, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, "/v1/spaces", cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                var table = new Table().Border(TableBorder.None).AddColumns("[grey]space[/]", "[grey]path[/]", "[grey]sessions[/]");
                foreach (var space in answer["spaces"]!.AsArray())
                {
                    table.AddRow(Output.Plain((string?)space!["name"]), Output.Plain((string?)space["path"]),
                        space["sessions"]!.ToString());
                }
                AnsiConsole.Write(table);
            }
            return 0;
        }));
        return command;
    }

    static Command Remove()
    {
        var connection = new Connection();
        var name = new Argument<string>("name") { Description = "Name of the space." };
        var yes = new Option<bool>("--yes") { Description = "Confirm; this cannot be undone." };
        var command = new Command("remove", """
            Permanently delete a space and everything in it: credentials, users, notifications, marks.

            Example:
              rovett space remove harbour --yes
            """) { name, yes };
        Connection.Add(command, connection.Url, connection.Key, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            if (!parsed.GetValue(yes))
            {
                throw new UsageException($"Everything in the space '{parsed.GetValue(name)}' would be permanently deleted.",
                    "Confirm with --yes.");
            }
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Delete, "/v1/spaces/" + Uri.EscapeDataString(parsed.GetValue(name)!), cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else AnsiConsole.MarkupLine($"[green]Removed.[/] {answer["sessionsEnded"]} sessions ended.");
            return 0;
        }));
        return command;
    }
}
