using System.CommandLine;
using System.Globalization;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett receipts</c></summary>
static class ReceiptsCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var id = new Argument<string?>("id")
        {
            Description = "Notification id: shows its recipients and timeline. Default: all receipts, in order.",
            Arity = ArgumentArity.ZeroOrOne
        };
        var after = new Option<string>("--after")
        { Description = "Start after this cursor; start: the oldest kept; now: only new ones.", DefaultValueFactory = _ => "start" };
        var follow = new Option<bool>("--follow") { Description = "Keep waiting for more." };
        var command = new Command("receipts", """
            Show the receipts of notifications: received, handled, read, taken, ended, deadlines missed.

            Example:
              rovett receipts --after now --follow
            """) { id, after, follow };
        connection.AddBackend(command);
        command.SetAction(
            (parsed, cancel) =>
            Output.Guard(
            () => parsed.GetValue(id) is { } one ? Show(parsed, connection, one, cancel)
            : All(parsed, connection, parsed.GetValue(after)!, parsed.GetValue(follow), cancel)));
        return command;
    }

    static string Clock(JsonNode? time) => DateTime.TryParse((string?)time, null, DateTimeStyles.AdjustToUniversal, out var t)
        ? t.ToLocalTime().ToString("HH:mm:ss.fff")
        : "-";

    static async Task<int> Show(ParseResult parsed, Connection connection, string id, CancellationToken cancel)
    {
        using var client = connection.Backend(parsed);
        var found = (await client.Call(HttpMethod.Get, $"/v1/notifications/{Uri.EscapeDataString(id)}", cancel: cancel))!;
        if (parsed.GetValue(connection.Json))
        {
            Output.Json(found);
            return 0;
        }
        var people = found["people"]!;
        AnsiConsole.MarkupLine(
            $"[bold]{Output.Plain((string?)found["title"])}[/]  [grey]{Output.Plain((string?)found["type"])} to " +
            $"{string.Join(", ", found["to"]!.AsArray().Select(a => Output.Plain((string?)a)))}[/]");
        AnsiConsole.MarkupLine($"{people["received"]} received, {people["handled"]} handled, {people["read"]} read");
        foreach (var step in found["timeline"]!.AsArray())
        {
            AnsiConsole.MarkupLine(
                $"  {Clock(step!["time"])}  {Output.Plain((string?)step["state"])}" +
                $"{(step["by"] is { } by ? $" by {Output.Plain((string?)by)}" : "")}");
        }
        foreach (var deadline in found["deadlines"]?.AsArray() ?? [])
        {
            AnsiConsole.MarkupLine(
                $"  {Clock(deadline!["at"])}  deadline: {deadline["by"]} by {deadline["who"]}, [bold]{deadline["state"]}[/]");
        }
        if (found["receipts"] is JsonArray { Count: > 0 } receipts)
        {
            var table = new Table().Border(TableBorder.None)
                .AddColumns("[grey]user[/]", "[grey]device[/]", "[grey]received[/]", "[grey]handled[/]", "[grey]read[/]");
            foreach (var r in receipts)
            {
                table.AddRow(Output.Plain((string?)r!["user"]), Output.Plain((string?)r["device"]), Clock(r["received"]),
                    Clock(r["handled"]), Clock(r["read"]));
            }
            AnsiConsole.Write(table);
        }
        else
        {
            Output.Hint($"Receipts of this type are kept as {(string?)found["receiptsKept"]}; with fullReceipts each person's are " +
                $"listed (operating.md).");
        }
        return 0;
    }

    static async Task<int> All(ParseResult parsed, Connection connection, string after, bool follow, CancellationToken cancel)
    {
        using var client = connection.Backend(parsed);
        var json = parsed.GetValue(connection.Json);
        long shown = 0;
        for (; ; )
        {
            var page = (await client.Call(HttpMethod.Get, $"/v1/receipts?after={Uri.EscapeDataString(after)}", cancel: cancel))!;
            if (page["gap"] is { } gap) Output.Hint($"gap: {gap}; what is still kept follows");
            foreach (var receipt in page["receipts"]!.AsArray())
            {
                if (json) Output.Json(receipt!, oneLine: true);
                else Print(receipt!);
                shown++;
            }
            after = (string)page["cursor"]!;
            if ((bool)page["more"]!) continue;
            if (!follow)
            {
                if (shown == 0)
                {
                    Output.Hint("None are kept. What single people received, handled and read is kept for the types in fullReceipts " +
                        "(operating.md).");
                }
                if (!json) Output.Hint($"Continue later with --after {after}");
                return 0;
            }
            await Task.Delay(500, cancel);
        }
    }

    static void Print(JsonNode r)
    {
        var who = r["user"] is { } user
            ? $" [bold]{Output.Plain((string?)user)}[/]{(r["device"] is { } device ? $" [grey]on {Output.Plain((string?)device)}[/]" : "")}"
            : "";
        AnsiConsole.MarkupLine(
            $"{Clock(r["time"])}  {Output.Plain((string?)r["state"]),-12}{who}  [grey]{Output.Plain((string?)r["type"])} " +
            $"{Output.Plain((string?)r["id"])}[/]");
    }
}
