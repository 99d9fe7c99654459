using System.CommandLine;
using System.Text.Json;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett send</c></summary>
static class SendCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var to = new Option<string[]>("--to")
        { Description = "Address: user:<id>, role:<name>, topic:<topic> or everyone; may be repeated." };
        var except = new Option<string[]>("--except") { Description = "Address to exclude; may be repeated." };
        var type = new Option<string?>("--type") { Description = "Type, such as engine.check.due." };
        var title = new Option<string?>("--title") { Description = "Headline, one line." };
        var body = new Option<string?>("--body") { Description = "Longer text (optional)." };
        var subject = new Option<string?>("--subject") { Description = "Subject, such as vessel/turnstone." };
        var link = new Option<string?>("--link") { Description = "Link: a path or an http(s) URL." };
        var urgency = new Option<string?>("--urgency") { Description = "Urgency (RFC 8030): very-low, low, normal or high." };
        var data = new Option<string?>("--data") { Description = "Any JSON for the application." };
        var ttl = new Option<string?>("--ttl") { Description = "Time to live: seconds, or 30m, 12h, 7d." };
        var slot = new Option<string?>("--slot")
        { Description = "Slot: a newer notification in the same slot, for the same recipients, replaces it." };
        var takeable = new Option<bool>("--takeable") { Description = "Takeable: one member of the role may take it." };
        var ephemeral = new Option<bool>("--ephemeral") { Description = "Ephemeral: only for connected users, never stored." };
        var file = new Option<string?>("--file") { Description = "File with the notification as JSON; - for standard input." };
        var key = new Option<string?>("--idempotency-key") { Description = "Idempotency key: makes the send safe to repeat." };
        var dryRun = new Option<bool>("--dry-run") { Description = "Show the recipients without storing anything." };
        var command = new Command("send", """
            Send a notification and show its recipients.

            Example:
              rovett send --to role:engineer --type engine.check.due --title "Turnstone: bow thruster check due"
            """) { to, except, type, title, body, subject, link, urgency, data, ttl, slot, takeable, ephemeral, file, key, dryRun };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var notification = parsed.GetValue(file) is { } path ? await Read(path, cancel) : new JsonObject();
            void Set(string name, JsonNode? value)
            {
                if (value is not null) notification[name] = value;
            }
            if (parsed.GetValue(to) is { Length: > 0 } addresses) Set("to", new JsonArray([.. addresses.Select(a => (JsonNode)a)]));
            if (parsed.GetValue(except) is { Length: > 0 } left) Set("except", new JsonArray([.. left.Select(a => (JsonNode)a)]));
            foreach (var (name, option) in new[] { ("type", type), ("title", title), ("body", body), ("subject", subject), ("link", link),
                ("urgency", urgency), ("slot", slot) }) Set(name, parsed.GetValue(option));
            if (parsed.GetValue(data) is { } text) Set("data", Parse(text, "--data"));
            if (parsed.GetValue(ttl) is { } lasts) Set("ttl", Seconds(lasts));
            if (parsed.GetValue(takeable)) Set("takeable", true);
            if (parsed.GetValue(ephemeral)) Set("store", false);
            var answer = await client.Send(notification, parsed.GetValue(key), parsed.GetValue(dryRun), cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else Print(answer, parsed.GetValue(dryRun));
            return 0;
        }));
        return command;
    }

    static async Task<JsonObject> Read(string path, CancellationToken cancel)
    {
        try
        {
            var text = path == "-" ? await Console.In.ReadToEndAsync(cancel) : await File.ReadAllTextAsync(path, cancel);
            return Parse(text, path == "-" ? "standard input" : path,
                "A notification is {\"to\":[…],\"type\":\"…\",\"title\":\"…\"}; nothing was sent.") as JsonObject
                ?? throw new UsageException("--file: not a JSON object.",
                "Write the notification as {\"to\":[…],\"type\":\"…\",\"title\":\"…\"}.");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new UsageException($"--file: {error.Message}", "Check the path.");
        }
    }

    static JsonNode? Parse(string text, string place, string fix = "Quote it for the shell: '{\"checkId\":91}'.")
    {
        try
        {
            return JsonNode.Parse(text);
        }
        catch (JsonException error)
        {
            throw new UsageException($"{place}: not JSON, at line {error.LineNumber + 1}, byte {error.BytePositionInLine + 1}.", fix);
        }
    }

    static void Print(JsonNode answer, bool dryRun)
    {
        var console = AnsiConsole.Console;
        if (dryRun) console.MarkupLine("[darkorange3]Not sent[/] (dry run). Recipients would be:");
        else if (answer["id"] is null) console.MarkupLine("[green]Delivered[/] to connected users, not stored. Recipients:");
        else if ((bool)answer["repeated"]!)
        {
            console.MarkupLineInterpolated(
                $"[green]Already stored[/] {(string)answer["id"]!} (position {(long)answer["position"]!}). Recipients now:");
        }
        else
        {
            console.MarkupLineInterpolated($"[green]Stored[/] {(string)answer["id"]!} (position {(long)answer["position"]!}). Recipients:");
        }
        foreach (var reach in answer["reach"]!.AsArray())
        {
            var address = Output.Plain((string?)reach!["address"]);
            bool isTopic = address.StartsWith("topic:", StringComparison.Ordinal);
            if (isTopic && !(bool)reach["known"]!)
            {
                console.MarkupLine($"  [bold]{address}[/]  [darkorange3]no policy or grant allows it: nobody can subscribe[/]; " +
                    $"see rovett policies.");
            }
            else if ((bool)reach["known"]!)
            {
                console.MarkupLine(
                    $"  [bold]{address}[/]  {reach["users"]} {(isTopic ? "followers" : "known")}, {reach["connected"]} connected now" +
                    $"{(answer["id"] is null && !dryRun ? "" : $", stored for {reach["stored"]}")}");
            }
            else
            {
                var near = reach["near"] is JsonArray { Count: > 0 } names
                    ? $" Did you mean {string.Join(" or ", names.Select(n => Output.Plain((string?)n)))}?"
                    : "";
                console.MarkupLine(
                    $"  [bold]{address}[/]  [darkorange3]no such user or role yet[/]; " +
                    $"delivered when they first connect.{near}");
            }
        }
    }

    static int Seconds(string text) => int.TryParse(text, out int seconds) ? seconds
        : Durations.TryParse(text, out var span) ? (int)span.TotalSeconds
        : throw new UsageException($"--ttl: '{text}' is not a duration.", "Write seconds, or 30m, 12h, 7d.");
}
