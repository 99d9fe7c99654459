using System.CommandLine;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Client;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett users</c></summary>
static class UsersCommand
{
    const int LinesAtOnce = 5000;

    public static Command Build() => new("users", """
        The directory: who is known, with which roles.

        Example:
          rovett users list
        """) {
        Put("create"), List(), Things.Show("a user", "id", "rovett users show mara", id => Connection.UserPath(id)), Put("update"), Erase(),
        Import(), SignOut(), Block(true), Block(false),
    };

    static Command List()
    {
        var connection = new Connection();
        var after = new Option<string?>("--after") { Description = "Start after this id." };
        var limit = new Option<int>("--limit") { Description = "Maximum number of lines, 1 to 500.", DefaultValueFactory = _ => 50 };
        var command = new Command("list", """
            List the known users by id.

            Example:
              rovett users list --limit 20
            """) { after, limit };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer =
                (await client.Call(HttpMethod.Get,
                $"/v1/users?limit={parsed.GetValue(limit)}&after={Uri.EscapeDataString(parsed.GetValue(after) ?? "")}", cancel: cancel))!;
            if (parsed.GetValue(connection.Json))
            {
                Output.Json(answer);
                return 0;
            }
            var table = new Table().Border(TableBorder.None)
                .AddColumns("[grey]id[/]", "[grey]name[/]", "[grey]locale[/]", "[grey]directory roles[/]");
            foreach (var user in answer["users"]!.AsArray())
                table.AddRow(Output.Plain((string?)user!["id"]), Output.Plain((string?)user["displayName"]),
                    Output.Plain((string?)user["locale"]), Roles(user["roles"]));
            AnsiConsole.Write(table);
            if (table.Rows.Count == parsed.GetValue(limit))
            {
                Output.Hint($"There may be more: --after {(string?)answer["users"]!.AsArray()[^1]!["id"]}");
            }
            return 0;
        }));
        return command;
    }

    static string Roles(JsonNode? roles) => string.Join(", ", roles?.AsArray().Select(r => Output.Plain((string?)r)) ?? []);

    static Command Put(string verb)
    {
        bool creates = verb == "create";
        var connection = new Connection();
        var id = new Argument<string>("id") { Description = "The user's id." };
        var name = new Option<string?>("--name") { Description = "Name that people read." };
        var locale = new Option<string?>("--locale") { Description = "Language and region, such as en-GB." };
        var role = new Option<string[]>("--role") { Description = "Role of the user; may be repeated. All roles, not one more." };
        var command = new Command(verb, creates ? """
            Create a user in the directory.

            Example:
              rovett users create mara --name "Mara Lindqvist" --role engineer
            """ : """
            Change a user. What is left out stays.

            Example:
              rovett users update mara --role engineer --role duty-manager
            """) { id, name, locale, role };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var path = Connection.UserPath(parsed.GetValue(id)!);
            Things.RequireVerb(creates, await Things.Find(client, path, cancel) is not null, "users", "user", parsed.GetValue(id)!);
            var body = new JsonObject();
            if (parsed.GetValue(name) is { } displayName) body["displayName"] = displayName;
            if (parsed.GetValue(locale) is { } language) body["locale"] = language;
            if (parsed.GetValue(role) is { Length: > 0 } roles) body["roles"] = new JsonArray([.. roles.Select(r => (JsonNode)r)]);
            var answer = await client.Call(HttpMethod.Put, path, body, cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine(
                    $"[green]{(creates ? "Created" : "Updated")}[/] {Output.Plain((string?)answer["id"])}: {Roles(answer["roles"])}");
            }
            return 0;
        }));
        return command;
    }

    static Command Import()
    {
        var connection = new Connection();
        var file = new Argument<string>("file")
        {
            Description = "One JSON object a line: " +
            "{\"id\":\"mara\",\"displayName\":\"Mara\",\"locale\":\"en-GB\",\"roles\":[\"engineer\"]}; - for standard input."
        };
        var command = new Command("import", """
            Import users. Safe to repeat: existing users are updated.

            Example:
              rovett users import crew.ndjson
            """) { file };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(() => Import(parsed, connection, parsed.GetValue(file)!, cancel)));
        return command;
    }

    static async Task<int> Import(ParseResult parsed, Connection connection, string file, CancellationToken cancel)
    {
        if (file != "-" && !File.Exists(file))
        {
            throw new UsageException($"'{file}' does not exist.", "Name a file with one JSON object a line, or - for standard input.");
        }
        using var client = connection.Backend(parsed);
        using var reader = file == "-" ? Console.In : new StreamReader(file);
        long lines = 0, stored = 0, refused = 0;
        var faults = new List<(string Field, string Detail)>();
        for (; ; )
        {
            var part = new StringBuilder();
            int count = 0;
            for (; count < LinesAtOnce && await reader.ReadLineAsync(cancel) is { } line; count++) part.Append(line).Append('\n');
            if (count == 0) break;
            JsonNode answer;
            try
            {
                answer = await client.Import(part.ToString(), cancel);
            }
            catch (Exception failed) when (failed is RovettRefusedException or HttpRequestException)
            {
                Output.Hint($"{stored:N0} users of the first {lines:N0} lines are stored; run it again once the problem is fixed.");
                throw;
            }
            stored += (long)answer["stored"]!;
            refused += (long)answer["refused"]!;
            foreach (var error in answer["errors"]?.AsArray() ?? [])
            {
                // The service counts lines from the beginning of each part.
                var (field, at) = ((string)error!["field"]!, lines);
                int colon = field.IndexOf(':', StringComparison.Ordinal);
                if (colon > 0 && long.TryParse(field["line ".Length..colon], out long number))
                {
                    field = $"line {at + number}{field[colon..]}";
                }
                faults.Add((field, (string)error["detail"]!));
            }
            lines += count;
            if (count == LinesAtOnce) Output.Hint($"{lines:N0} lines, {stored:N0} stored");
        }
        if (parsed.GetValue(connection.Json))
        {
            Output.Json(
                new JsonObject
                {
                    ["stored"] = stored,
                    ["refused"] = refused,
                    ["errors"] =
                    new JsonArray(
                    [.. faults.Take(50).Select(f => (JsonNode)new JsonObject { ["field"] = f.Field, ["detail"] = f.Detail })])
                });
            return refused > 0 ? 2 : 0;
        }
        AnsiConsole.MarkupLine(
            $"[green]{stored:N0} users stored[/]" +
            $"{(refused > 0 ? $", [red]{refused:N0} {(refused == 1 ? "line" : "lines")} refused[/]" : "")}");
        foreach (var (field, detail) in faults.Take(50)) Output.Errors.MarkupLineInterpolated($"  [bold]{field}[/] {detail}");
        return refused > 0 ? 2 : 0;
    }

    static Command SignOut()
    {
        var connection = new Connection();
        var id = new Argument<string>("id") { Description = "The user's id." };
        var unknown = new Option<bool>("--unknown") { Description = "Allow an unknown user." };
        var command = new Command("sign-out", """
            Sign a user out everywhere: sessions end, and earlier credentials become invalid.

            Example:
              rovett users sign-out mara
            """) { id, unknown };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            if (!parsed.GetValue(unknown))
            {
                await Connection.RequireKnown(client, parsed.GetValue(id)!, "id", "Add --unknown when it is meant.", cancel);
            }
            var answer = await client.Call(HttpMethod.Post, Connection.UserPath(parsed.GetValue(id)!, "/sign-out"), cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLineInterpolated(
                    $"[green]Signed out.[/] {(long)answer["sessionsEnded"]!} sessions ended. Earlier credentials are now invalid.");
            }
            return 0;
        }));
        return command;
    }

    static Command Block(bool block)
    {
        var connection = new Connection();
        var id = new Argument<string>("id") { Description = "The user's id." };
        var unknown = new Option<bool>("--unknown") { Description = "Allow an unknown user." };
        var command = new Command(block ? "block" : "unblock", block ? """
            Block a user: sessions end, and no credential is accepted until the user is unblocked. Notifications are still stored.

            Example:
              rovett users block mara
            """ : """
            Unblock a user.

            Example:
              rovett users unblock mara
            """) { id, unknown };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            if (!parsed.GetValue(unknown))
            {
                await Connection.RequireKnown(client, parsed.GetValue(id)!, "id", "Add --unknown when it is meant.", cancel);
            }
            var answer = await client.Call(HttpMethod.Put, Connection.UserPath(parsed.GetValue(id)!),
                new JsonObject { ["blocked"] = block }, cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else AnsiConsole.MarkupLineInterpolated($"[green]{(block ? "Blocked" : "Unblocked")}[/]: {parsed.GetValue(id)!}");
            return 0;
        }));
        return command;
    }

    static Command Erase()
    {
        var connection = new Connection();
        var id = new Argument<string>("id") { Description = "The user's id." };
        var sure = new Option<bool>("--yes") { Description = "Confirm; this cannot be undone." };
        var command = new Command("erase", """
            Erase a user: inbox, marks and acknowledgements. The audit log keeps a pseudonym.

            Example:
              rovett users erase mara --yes
            """) { id, sure };
        command.Aliases.Add("remove");
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            if (!parsed.GetValue(sure)) throw new UsageException("Erasing cannot be undone.", "Confirm with --yes.");
            using var client = connection.Backend(parsed);
            var answer = (await client.Call(HttpMethod.Delete, Connection.UserPath(parsed.GetValue(id)!), cancel: cancel))!;
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                var (count, pseudonym) = ((long)answer["notifications"]!, (string)answer["erased"]!);
                AnsiConsole.MarkupLineInterpolated($"[green]Erased.[/] {count} notifications named the person; they now name {pseudonym}.");
            }
            return 0;
        }));
        return command;
    }
}
