using System.CommandLine;
using System.Globalization;
using System.Text.Json.Nodes;
using Rovett.Client;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett receive</c></summary>
static class ReceiveCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var transport = new Option<string>("--transport")
        { Description = "Transport: auto, websocket, sse or long-poll.", DefaultValueFactory = _ => "auto" };
        transport.AcceptOnlyFromAmong("auto", "websocket", "sse", "long-poll");
        var device = new Option<string?>("--device")
        {
            Description = "Device id. [default: the host name with '-cli']",
            DefaultValueFactory = _ => Environment.MachineName + "-cli"
        };
        var after = new Option<string?>("--after")
        { Description = "Start after this cursor, or 'now'. Default: everything that no device of the user has received." };
        var count = new Option<int?>("--count") { Description = "Stop after this many notifications." };
        var noAck = new Option<bool>("--no-ack") { Description = "Do not acknowledge." };
        var subscribe = new Option<string[]>("--subscribe") { Description = "A topic to subscribe to, such as berth/3; may be repeated." };
        var command = new Command("receive", """
            Receive live as a user: shows each notification, the transport and the unread total.

            Example:
              rovett receive --user mara --role engineer --transport sse
            """) { transport, device, after, count, noAck, subscribe };
        connection.AddUser(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var options = new LiveOptions
            {
                Transport = parsed.GetValue(transport) switch
                {
                    "websocket" => LiveTransport.WebSocket,
                    "sse" => LiveTransport.Sse,
                    "long-poll" => LiveTransport.LongPoll,
                    _ => LiveTransport.Auto
                },
                Device = parsed.GetValue(device),
                Label = "rovett receive",
                After = parsed.GetValue(after),
                AutoAcknowledge = !parsed.GetValue(noAck),
            };
            _ = connection.UserToken(parsed); // what is missing is said now, not at the first connection
            using var live = new LiveConnection(connection.At(parsed), _ => new ValueTask<string>(connection.UserToken(parsed)), options);
            int left = parsed.GetValue(count) ?? int.MaxValue;
            bool json = parsed.GetValue(connection.Json);
            using var watch = new Timer(_ => Trouble(live), null, TimeSpan.FromSeconds(2), TimeSpan.FromSeconds(5));
            await foreach (var message in live.Messages(cancel))
            {
                if (json) Output.Json(message, oneLine: true);
                else Print(message);
                if ((string?)message["kind"] == "current")
                {
                    foreach (var topic in parsed.GetValue(subscribe) ?? [])
                    {
                        await live.Send(new JsonObject { ["kind"] = "subscribe", ["topic"] = topic, ["requestId"] = "subscribe " + topic },
                            cancel);
                    }
                }
                if ((string?)message["kind"] != "notification" || --left > 0) continue;
                if (message["cursor"] is null) break; // nothing to acknowledge
                // Leaving the loop closes the connection, so the last ones are acknowledged first.
                if (options.AutoAcknowledge)
                {
                    await live.Send(new JsonObject { ["kind"] = "ack", ["upTo"] = (string?)message["cursor"], ["handled"] = true }, cancel);
                }
                break;
            }
            return 0;
        }));
        return command;
    }

    static void Trouble(LiveConnection live)
    {
        if (live.Transport is null && live.LastTrouble is { } trouble) Output.Hint($"not connected: {trouble}; trying again");
    }

    static void Print(JsonObject m)
    {
        var console = AnsiConsole.Console;
        static string Clock(JsonNode? time) => DateTime.TryParse((string?)time, null, DateTimeStyles.AdjustToUniversal, out var t)
            ? t.ToLocalTime().ToString("HH:mm:ss")
            : "        ";
        switch ((string?)m["kind"])
        {
            case "opened":
                console.MarkupLine(
                    $"[green]connected[/] over [bold]{m["transport"]}[/] as [bold]{Output.Plain((string?)m["user"])}[/] in " +
                    $"{Output.Plain((string?)m["space"])}, on " +
                    $"{string.Join(", ", m["channels"]!.AsArray().Select(c => Output.Plain((string?)c)))}; [bold]" +
                    $"{m["totals"]!["unread"]} unread[/]  [grey]cursor {m["cursor"]}[/]");
                break;
            case "current":
                console.MarkupLine($"[grey]up to date; what follows is live  cursor {m["cursor"]}[/]");
                break;
            case "notification" when m["counted"] is not null:
                console.MarkupLine(
                    $"{Clock(m["time"])}  [bold]{Output.Plain((string?)m["title"])}[/]  [grey]{Output.Plain((string?)m["type"])} to " +
                    $"{Output.Plain((string?)m["to"])}, subscribed: not in the inbox[/]");
                break;
            case "notification" when m["cursor"] is null:
                console.MarkupLine(
                    $"{Clock(m["time"])}  [bold]{Output.Plain((string?)m["title"])}[/]  [grey]{Output.Plain((string?)m["type"])} to " +
                    $"{Output.Plain((string?)m["to"])}, not stored[/]");
                break;
            case "notification":
                console.MarkupLine(
                    $"{Clock(m["time"])}  [bold]{Output.Plain((string?)m["title"])}[/]  [grey]{Output.Plain((string?)m["type"])} to " +
                    $"{Output.Plain((string?)m["to"])}[/]  [bold]{m["unread"]} unread[/]  [grey]cursor {m["cursor"]}[/]");
                break;
            case "withdrawn" or "expired" or "replaced" or "taken" or "released":
                var by = m["by"] is null ? "" : $" by {Output.Plain((string?)m["by"])}";
                console.MarkupLine(
                    $"{Clock(m["time"])}  [darkorange3]{m["kind"]}{by}[/]  [grey]{Output.Plain((string?)m["id"])}[/]  [bold]" +
                    $"{m["unread"]} unread[/]  [grey]cursor {m["cursor"]}[/]");
                break;
            case "totals" or "read":
                console.MarkupLine(
                    $"{Clock(m["totals"]!["asOf"])}  [grey]{((string?)m["kind"] == "read" ? "read on another device" : "totals")}[/]  " +
                    $"[bold]{m["totals"]!["unread"]} unread[/]");
                break;
            case "channels":
                console.MarkupLine(
                    $"          [darkorange3]channels changed[/]: " +
                    $"{string.Join(", ", m["channels"]!.AsArray().Select(c => Output.Plain((string?)c)))}  [bold]" +
                    $"{m["totals"]!["unread"]} unread[/]");
                break;
            case "gap":
                console.MarkupLine($"          [darkorange3]gap[/]: {Output.Plain((string?)m["detail"])}");
                break;
            case "ending":
                console.MarkupLine($"          [darkorange3]the service ends this session[/]: {Output.Plain((string?)m["reason"])}");
                break;
            case "refused":
                console.MarkupLine(
                    $"          [red]refused[/]: {Output.Plain((string?)m["problem"]?["detail"])} " +
                    $"{Output.Plain((string?)m["problem"]?["fix"])}");
                break;
        }
    }
}
