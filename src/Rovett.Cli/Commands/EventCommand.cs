using System.CommandLine;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett event</c></summary>
static class EventCommand
{
    const string Source = "/command-line", One = "application/cloudevents+json", Lines = "application/x-ndjson";

    public static Command Build() => new("event", """
        Publish events, of which rules make notifications, and see what came of them.

        Example:
          rovett event publish --type engine.check.due --data '{"vessel":"turnstone"}'
        """) { Publish(), Show() };

    static Command Publish()
    {
        var connection = new Connection();
        var type = new Option<string?>("--type") { Description = "Type of the event, such as engine.check.due." };
        var source = new Option<string>("--source")
        { Description = "Where it happened: a URI-reference.", DefaultValueFactory = _ => Source };
        var id = new Option<string?>("--id") { Description = "Id, unique within the source. Default: a new one." };
        var subject = new Option<string?>("--subject") { Description = "Subject it is about, such as vessel/turnstone." };
        var data = new Option<string?>("--data") { Description = "Data as JSON." };
        var attribute = new Option<string[]>("--attribute") { Description = "Another attribute, as name=value; may be repeated." };
        var file = new Option<string?>("--file")
        { Description = "Publish the events of a file, one a line (NDJSON); - for standard input. At most 1,000." };
        var dryRun = new Option<bool>("--dry-run") { Description = "Show which rules match, and do nothing." };
        var command = new Command("publish", """
            Publish an event, or the events of a file.

            Example:
              rovett event publish --type engine.check.due --data '{"vessel":"turnstone"}'
              rovett event publish --file events.ndjson
            """) { type, source, id, subject, data, attribute, file, dryRun };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            bool isFile = parsed.GetValue(file) is not null;
            if (isFile == parsed.GetValue(type) is not null)
            {
                throw new UsageException(isFile ? "Both --file and --type are given." : "The event is missing.",
                    "Give --type for one event, or --file for the events of a file.");
            }
            var body = isFile ? Text(parsed.GetValue(file)!)
                : Event(parsed.GetValue(type)!, parsed.GetValue(source)!, parsed.GetValue(id), parsed.GetValue(subject),
                parsed.GetValue(data),
                    parsed.GetValue(attribute) ?? []).ToJsonString();
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Post, "/v1/events" + (parsed.GetValue(dryRun) ? "?dryRun=true" : ""),
                () => new StringContent(body, Encoding.UTF8, isFile ? Lines : One), cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else if (isFile) PrintResults(answer);
            else PrintOutcome(answer);
            return answer["refused"] is { } refused && (int)refused > 0 ? 2 : 0;
        }));
        return command;
    }

    static string Text(string path)
    {
        try
        {
            return path == "-" ? Console.In.ReadToEnd() : File.ReadAllText(path);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new UsageException($"{path} can't be read: {error.Message}", "Check its name, or give - to read from standard input.");
        }
    }

    static JsonObject Event(string type, string source, string? id, string? subject, string? data, string[] attributes)
    {
        var found = new JsonObject
        { ["specversion"] = "1.0", ["id"] = id ?? Guid.CreateVersion7().ToString(), ["source"] = source, ["type"] = type };
        if (subject is not null) found["subject"] = subject;
        foreach (var attribute in attributes)
        {
            int at = attribute.IndexOf('=', StringComparison.Ordinal);
            if (at <= 0) throw new UsageException($"--attribute: '{attribute}' is not name=value.", "Write it as --attribute actor=mara.");
            found[attribute[..at]] = attribute[(at + 1)..];
        }
        if (data is null) return found;
        try
        {
            found["data"] = JsonNode.Parse(data);
        }
        catch (JsonException error)
        {
            throw new UsageException($"--data is not JSON: {error.Message}",
                "Put it in single quotes: --data '{\"vessel\":\"turnstone\"}'.");
        }
        return found;
    }

    /// <summary>An event of a file, with what may be left out when it is only tried.</summary>
    public static JsonNode Complete(JsonNode found)
    {
        if (found is not JsonObject event_)
        {
            throw new UsageException("The file has no event.", "Give an object with type, source and data.");
        }
        event_.TryAdd("specversion", "1.0");
        event_.TryAdd("id", "try");
        event_.TryAdd("source", Source);
        if (event_["specversion"] is JsonValue version) event_["specversion"] = version.ToString();
        return event_;
    }

    static void PrintResults(JsonNode answer)
    {
        AnsiConsole.MarkupLine(
            $"[green]{answer["taken"]} taken[/], {((int)answer["refused"]! > 0 ? $"[red]{answer["refused"]} refused[/]" : "0 refused")}."
            + $" Notifications: {answer["results"]!.AsArray().Sum(r => r!["outcome"]?["notifications"]!.AsArray().Count ?? 0)}.");
        int line = 0;
        foreach (var result in answer["results"]!.AsArray())
        {
            line++;
            if (result!["problem"] is { } problem) AnsiConsole.MarkupLine($"  [red]{line}[/]  {Output.Plain(Reason(problem))}");
            else if (result["outcome"]!["setAside"] is { } aside)
            {
                AnsiConsole.MarkupLine($"  [yellow]{line}[/]  set aside as {aside["number"]}");
            }
        }
    }

    static string Reason(JsonNode problem) => problem["errors"] is JsonArray { Count: > 0 } errors
        ? string.Join("; ", errors.Select(e => $"{e!["field"]} {e["detail"]}"))
        : $"{problem["title"]}. {problem["detail"]}";

    static void PrintOutcome(JsonNode answer)
    {
        var matched = answer["matched"]!.AsArray();
        if (matched.Count == 0)
        {
            AnsiConsole.MarkupLine("[yellow]No rule[/] matches this event; nothing is sent."
                + (answer["nearest"] is { } near ? $" Did you mean {Output.Plain((string?)near)}?" : " rovett rules try shows why."));
            return;
        }
        if ((bool?)answer["dryRun"] == true)
        {
            AnsiConsole.MarkupLine($"Would match: {Output.Plain(string.Join(", ", matched.Select(m => (string?)m)))}. Nothing was done.");
            return;
        }
        if ((bool?)answer["repeated"] == true) AnsiConsole.MarkupLine("[grey]Taken before; this is the same answer.[/]");
        foreach (var made in answer["notifications"]!.AsArray())
        {
            AnsiConsole.MarkupLine($"[green]Stored[/] {made!["id"]}  [grey]{Output.Plain((string?)made["rule"])}[/]");
        }
        foreach (var gathering in answer["gathering"]?.AsArray() ?? [])
        {
            AnsiConsole.MarkupLine($"[green]Gathered[/] into {gathering!["id"]} until {((string)gathering["until"]!)[11..19]}  " +
                $"[grey]{Output.Plain((string?)gathering["rule"])}[/]");
        }
        if (answer["setAside"] is { } aside)
        {
            AnsiConsole.MarkupLine($"[yellow]Set aside[/] as {aside["number"]}:");
            foreach (var rule in aside["rules"]!.AsArray())
            {
                AnsiConsole.MarkupLine($"  {Output.Plain((string?)rule!["rule"])}: {Output.Plain((string?)rule["reason"])}");
            }
        }
    }

    static Command Show()
    {
        var connection = new Connection();
        var source = new Option<string>("--source")
        { Description = "Source of the event.", DefaultValueFactory = _ => Source };
        var id = new Argument<string>("id") { Description = "The id of the event." };
        var command = new Command("show", """
            Show what came of an event.

            Example:
              rovett event show --source /planning/1 check-91-due
            """) { id, source };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get,
                $"/v1/events?source={Uri.EscapeDataString(parsed.GetValue(source)!)}&id={Uri.EscapeDataString(parsed.GetValue(id)!)}",
                cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine(
                    $"[bold]{Output.Plain((string?)answer["type"])}[/] of {Output.Plain((string?)answer["source"])}, taken "
                    + $"{((string)answer["time"]!)[..19].Replace('T', ' ')}" +
                    (answer["subject"] is { } s ? $", about {Output.Plain((string?)s)}" : ""));
                PrintOutcome(answer["outcome"]!);
            }
            return 0;
        }));
        return command;
    }
}
