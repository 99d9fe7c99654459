using System.CommandLine;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett cluster</c></summary>
static class ClusterCommand
{
    public static Command Build() => new("cluster", """
        List the nodes of a cluster, move spaces between them, and have a node give its spaces up. Needs an admin key of main; any node
        answers.

        Example:
          rovett cluster list
        """) { List(), Move(), Drain() };

    static Command List()
    {
        var connection = new Connection();
        var command = new Command("list", """
            List the nodes and the spaces that each serves.

            Example:
              rovett cluster list
            """);
        Connection.Add(command, connection.Url, connection.Key, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            Print(await client.Call(HttpMethod.Get, "/v1/cluster", cancel: cancel), parsed.GetValue(connection.Json));
            return 0;
        }));
        return command;
    }

    static Command Move()
    {
        var connection = new Connection();
        var space = new Argument<string>("space") { Description = "Name of the space." };
        var node = new Argument<string>("node") { Description = "Address of the node, as 'rovett cluster list' shows it; any: no wish." };
        var command = new Command("move", """
            Have a space served by a node, as long as that node is there. Its sessions end and come back.

            Example:
              rovett cluster move harbour https://10.0.0.5:7412
            """) { space, node };
        Connection.Add(command, connection.Url, connection.Key, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var wish = new JsonObject { ["space"] = parsed.GetValue(space) };
            if (parsed.GetValue(node) is { } to and not "any") wish["node"] = to.TrimEnd('/');
            Print(await client.Call(HttpMethod.Post, "/v1/cluster/moves", wish, cancel), parsed.GetValue(connection.Json));
            return 0;
        }));
        return command;
    }

    static Command Drain()
    {
        var connection = new Connection();
        var node = new Argument<string>("node") { Description = "Address of the node, as 'rovett cluster list' shows it." };
        var end = new Option<bool>("--end") { Description = "Have it serve spaces again." };
        var command = new Command("drain", """
            Have a node give all its spaces to the others. It passes requests on, and is not ready, until --end or its next start.

            Example:
              rovett cluster drain https://10.0.0.5:7412
            """) { node, end };
        Connection.Add(command, connection.Url, connection.Key, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var wish = new JsonObject { ["node"] = parsed.GetValue(node)!.TrimEnd('/'), ["drains"] = !parsed.GetValue(end) };
            Print(await client.Call(HttpMethod.Post, "/v1/cluster/drains", wish, cancel), parsed.GetValue(connection.Json));
            return 0;
        }));
        return command;
    }

    static void Print(JsonNode cluster, bool asJson)
    {
        if (asJson)
        {
            Output.Json(cluster);
            return;
        }
        NodeTable.Print(cluster["nodes"]!.AsArray(), (string?)cluster["node"]);
        var spaces = new Table().Border(TableBorder.None).AddColumns("[grey]space[/]", "[grey]served by[/]", "[grey]wanted[/]");
        foreach (var space in cluster["spaces"]!.AsArray())
        {
            spaces.AddRow(Output.Plain((string?)space!["space"]), (string?)space["node"] is { } by ? Output.Plain(by) : "[red]nobody[/]",
                Output.Plain((string?)space["wanted"] ?? ""));
        }
        AnsiConsole.Write(spaces);
    }
}
