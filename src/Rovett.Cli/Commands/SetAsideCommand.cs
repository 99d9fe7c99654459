using System.CommandLine;
using System.Text.Json;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett set-aside</c></summary>
static class SetAsideCommand
{
    public static Command Build() => new("set-aside", """
        See what was set aside because it would fail again: events whose rule failed, notifications that could not be sent.

        Example:
          rovett set-aside list
          rovett set-aside retry --all
        """)
    {
        List(), Show(), Retry(), Drop(),
    };

    static Command List()
    {
        var connection = new Connection();
        var command = new Command("list", """
            List what is set aside, oldest first.

            Example:
              rovett set-aside list
            """);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, "/v1/set-aside", cancel: cancel);
            if (parsed.GetValue(connection.Json))
            {
                Output.Json(answer);
                return 0;
            }
            var items = answer["items"]!.AsArray();
            if (items.Count == 0) AnsiConsole.MarkupLine("Nothing is set aside.");
            var table = new Table().Border(TableBorder.None)
                .AddColumns("[grey]number[/]", "[grey]since[/]", "[grey]what[/]", "[grey]reason[/]");
            foreach (var item in items)
            {
                table.AddRow(item!["number"]!.ToString(), ((string)item["time"]!)[..19].Replace('T', ' '), Output.Plain(What(item)),
                    Output.Plain((string?)item["reason"]));
            }
            if (items.Count > 0) AnsiConsole.Write(table);
            if ((long)answer["count"]! > items.Count)
            {
                Output.Hint($"{answer["count"]} in all. The next: GET /v1/set-aside?after={items[^1]!["number"]}");
            }
            return 0;
        }));
        return command;
    }

    static Command Show()
    {
        var connection = new Connection();
        var number = new Argument<long>("number") { Description = "Its number." };
        var command = new Command("show", """
            Show something that is set aside, with the event or notification it holds.

            Example:
              rovett set-aside show 7
            """) { number };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, $"/v1/set-aside/{parsed.GetValue(number)}", cancel: cancel);
            if (parsed.GetValue(connection.Json))
            {
                Output.Json(answer);
                return 0;
            }
            AnsiConsole.MarkupLine($"[bold]{Output.Plain(What(answer))}[/], set aside {((string)answer["time"]!)[..19].Replace('T', ' ')}");
            AnsiConsole.MarkupLine($"[red]{Output.Plain((string?)answer["reason"])}[/]");
            Output.Json(answer["detail"]?["event"] ?? answer["detail"]!);
            return 0;
        }));
        return command;
    }

    static string What(JsonNode item) => item["detail"]?["event"] is { } found
        ? $"event {found["id"]} of {found["source"]} ({found["type"]})"
        : (string)item["kind"]!;

    static Command Retry()
    {
        var connection = new Connection();
        var number = new Argument<long[]>("number") { Description = "The numbers to retry.", Arity = ArgumentArity.ZeroOrMore };
        var all = new Option<bool>("--all") { Description = "Retry everything." };
        var data = new Option<string?>("--data") { Description = "Other data for one event, as JSON." };
        var instead = new Option<string?>("--event")
        { Description = "The event to take in place of what an intake received, as JSON (CloudEvents)." };
        var command = new Command("retry", """
            Try again. For an event, only the rules that failed, in the version in effect; what an intake received is read again.

            Example:
              rovett set-aside retry 7
              rovett set-aside retry 7 --data '{"vessel":"turnstone"}'
            """) { number, all, data, instead };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var numbers = Numbers(parsed.GetValue(number), parsed.GetValue(all));
            using var client = connection.Backend(parsed);
            foreach (var (member, given) in new[] { ("data", parsed.GetValue(data)), ("event", parsed.GetValue(instead)) })
            {
                if (given is null) continue;
                if (numbers is not [var one]) throw new UsageException($"--{member} is for one of them.", "Give one number with it.");
                return await RetryOne(client, one, member, given, parsed.GetValue(connection.Json), cancel);
            }
            var answer = await client.Call(HttpMethod.Post, "/v1/set-aside/retry", Body(numbers), cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine($"[green]{answer["done"]} done[/], " +
                    $"{((int)answer["failed"]! > 0 ? $"[red]{answer["failed"]} failed again[/]" : "0 failed")}.");
                foreach (var failure in answer["failures"]!.AsArray())
                {
                    AnsiConsole.MarkupLine($"  {failure!["number"]}  {Output.Plain((string?)failure["reason"])}");
                }
            }
            return (int)answer["failed"]! > 0 ? 1 : 0;
        }));
        return command;
    }

    static async Task<int> RetryOne(Client.RovettClient client, long number, string member, string text, bool asJson,
        CancellationToken cancel)
    {
        JsonNode? given;
        try
        {
            given = JsonNode.Parse(text);
        }
        catch (JsonException error)
        {
            throw new UsageException($"--{member} is not JSON: {error.Message}", "Put it in single quotes.");
        }
        var answer = await client.Call(HttpMethod.Post, $"/v1/set-aside/{number}/retry", new JsonObject { [member] = given }, cancel);
        bool done = (bool)answer["done"]!;
        if (asJson) Output.Json(answer);
        else
        {
            AnsiConsole.MarkupLine(done ? $"[green]Done.[/] Notifications: {answer["notifications"]!.AsArray().Count}."
                : $"[red]Failed again[/] ({answer["number"]}): {Output.Plain((string?)answer["reason"])}");
        }
        return done ? 0 : 1;
    }

    static Command Drop()
    {
        var connection = new Connection();
        var number = new Argument<long[]>("number") { Description = "The numbers to drop.", Arity = ArgumentArity.ZeroOrMore };
        var all = new Option<bool>("--all") { Description = "Drop everything." };
        var command = new Command("drop", """
            Drop what is set aside: it is never tried again.

            Example:
              rovett set-aside drop 7 8
            """) { number, all };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var numbers = Numbers(parsed.GetValue(number), parsed.GetValue(all));
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Post, "/v1/set-aside/drop", Body(numbers), cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else AnsiConsole.MarkupLine($"[green]Dropped {answer["dropped"]}.[/]");
            return 0;
        }));
        return command;
    }

    /// <summary>The numbers; null: everything.</summary>
    static long[]? Numbers(long[]? given, bool all)
    {
        if (all == given is { Length: > 0 })
        {
            throw new UsageException(all ? "Both numbers and --all are given." : "The numbers are missing.", "Give numbers, or --all.");
        }
        return all ? null : given;
    }

    static JsonObject Body(long[]? numbers) =>
        numbers is null ? [] : new JsonObject { ["numbers"] = new JsonArray([.. numbers.Select(n => (JsonNode)n)]) };
}
