using System.CommandLine;
using System.Globalization;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett inbox</c></summary>
static class InboxCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var state = new Option<string>("--state") { Description = "State: all, unread or read.", DefaultValueFactory = _ => "all" };
        state.AcceptOnlyFromAmong("all", "unread", "read");
        var limit = new Option<int>("--limit") { Description = "Maximum number, 1 to 200.", DefaultValueFactory = _ => 20 };
        limit.Validators.Add(static result =>
        {
            if (result.Tokens.Count == 1 && int.TryParse(result.Tokens[0].Value, out int many) && many is < 1 or > 200)
            {
                result.AddError("--limit must be 1 to 200.");
            }
        });
        var page = new Option<string?>("--next") { Description = "The 'next' link of the previous page." };
        var command = new Command("inbox", """
            Show a user's inbox, newest first, with the totals.

            Example:
              rovett inbox --user mara --state unread
            """) { state, limit, page };
        connection.AddUser(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var link = parsed.GetValue(page);
            if (link is not null && !IsNext(link))
            {
                throw new UsageException($"--next: '{link}' is not a link to a next page.",
                    "Use the link of the previous page: /v1/inbox?page=…");
            }
            using var client = connection.AsUser(parsed);
            await connection.RequireKnown(parsed, cancel);
            var answer = await client.Call(HttpMethod.Get,
                link ?? $"/v1/inbox?state={parsed.GetValue(state)}&limit={parsed.GetValue(limit)}", cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else Print(answer);
            return 0;
        }));
        return command;
    }

    static bool IsNext(string link) => link.StartsWith('/') && link.Split('?')[0].EndsWith("/v1/inbox", StringComparison.Ordinal);

    static void Print(JsonNode answer)
    {
        var totals = answer["totals"]!;
        var by = totals["by"]!.AsObject();
        AnsiConsole.MarkupLine(
            $"[bold]{totals["unread"]} unread[/]" +
            $"{(by.Count > 0 ? "  " + string.Join(", ", by.Select(b => $"{Output.Plain(b.Key)} {b.Value}")) : "")}");
        var items = answer["items"]!.AsArray();
        if (items.Count == 0)
        {
            AnsiConsole.MarkupLine("[grey]Nothing here.[/]");
            return;
        }
        var table = new Table().Border(TableBorder.None)
            .AddColumns("[grey]stored[/]", "[grey]title[/]", "[grey]to[/]", "[grey]received[/]", "[grey]read[/]", "[grey]id[/]");
        foreach (var item in items)
        {
            bool unread = item!["state"]!["read"] is null;
            var title = Output.Plain((string?)item["title"]);
            table.AddRow(Time(item["time"]), unread ? $"[bold]{title}[/]" : title, Output.Plain((string?)item["to"]),
                Time(item["state"]!["received"]), Time(item["state"]!["read"]), $"[grey]{item["id"]}[/]");
        }
        AnsiConsole.Write(table);
        if (answer["next"] is { } next) AnsiConsole.MarkupLine($"[grey]More: rovett inbox … --next \"{Output.Plain((string?)next)}\"[/]");
    }

    static string Time(JsonNode? time) => time is null
        ? "–"
        : DateTime.Parse((string)time!, null, DateTimeStyles.AdjustToUniversal).ToLocalTime().ToString("dd MMM HH:mm:ss");
}

/// <summary><c>rovett mark</c></summary>
static class MarkCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var verb = new Argument<string>("what") { Description = "Mark: read, unread or received." };
        verb.AcceptOnlyFromAmong("read", "unread", "received");
        var id = new Option<string[]>("--id") { Description = "A notification's id; may be repeated." };
        var upTo = new Option<string?>("--up-to") { Description = "All notifications up to this cursor." };
        var subject = new Option<string?>("--subject") { Description = "All notifications about this subject." };
        var all = new Option<bool>("--all") { Description = "All notifications." };
        var command = new Command("mark", """
            Mark notifications of a user as read, unread or received, and show the totals.

            Example:
              rovett mark read --all --user mara
            """) { verb, id, upTo, subject, all };
        connection.AddUser(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var which = new JsonObject();
            if (parsed.GetValue(id) is { Length: > 0 } ids) which["ids"] = new JsonArray([.. ids.Select(i => (JsonNode)i)]);
            if (parsed.GetValue(upTo) is { } cursor) which["upTo"] = cursor;
            if (parsed.GetValue(subject) is { } about) which["subject"] = about;
            if (parsed.GetValue(all)) which["all"] = true;
            if (which.Count != 1)
            {
                throw new UsageException(which.Count == 0
                    ? "Which notifications? Use one of --id, --up-to, --subject, --all."
                    : "Use only one of --id, --up-to, --subject, --all.",
                    "Give exactly one of --id, --up-to, --subject and --all.");
            }
            using var client = connection.AsUser(parsed);
            await connection.RequireKnown(parsed, cancel);
            var answer = await client.Call(HttpMethod.Post, "/v1/inbox/marks", new JsonObject { [parsed.GetValue(verb)!] = which }, cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else AnsiConsole.MarkupLine($"[green]Marked {parsed.GetValue(verb)}[/]; [bold]{answer["totals"]!["unread"]} unread[/] now");
            return 0;
        }));
        return command;
    }
}
