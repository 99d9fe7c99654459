using System.CommandLine;
using System.Globalization;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett clock</c></summary>
static class ClockCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var confirm = new Option<bool>("--confirm")
        { Description = "Confirm that the system clock is right: a step is accepted, and retention follows it, at once." };
        var command = new Command("clock", """
            Show the service's clock. A step of the system clock is accepted after 5 minutes;
            retention follows it 24 hours later.

            Example:
              rovett clock
              rovett clock --confirm
            """) { confirm };
        Connection.Add(command, connection.Url, connection.Key, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = parsed.GetValue(confirm)
                ? await client.Call(HttpMethod.Post, "/v1/clock/confirm", cancel: cancel)
                : await client.Call(HttpMethod.Get, "/v1/clock", cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer!);
            else Print(answer!["clock"]!);
            return 0;
        }));
        return command;
    }

    /// <summary>Prints the member <c>clock</c>; nothing of it is unusual: one line.</summary>
    public static void Print(JsonNode clock)
    {
        AnsiConsole.MarkupLine($"Time: {Output.Plain(((string)clock["time"]!)[..19].Replace('T', ' '))} UTC");
        PrintWarnings(clock);
    }

    /// <summary>Prints what an operator should know, if anything.</summary>
    public static void PrintWarnings(JsonNode clock)
    {
        if (clock["step"] is { } step)
        {
            double by = (double)step["bySeconds"]!, left = (double)step["believedAfterSeconds"]! - (double)step["forSeconds"]!;
            AnsiConsole.MarkupLine($"[yellow]The system's clock was set {Span(Math.Abs(by))} {(by > 0 ? "ahead" : "back")}.[/] Not " +
                $"believed for another {Span(Math.Max(0, left))}; 'rovett clock --confirm' believes it now.");
        }
        if ((double)clock["retentionHeldBackSeconds"]! is > 0 and var held)
            AnsiConsole.MarkupLine($"[yellow]Retention is held back by {Span(held)}[/], because the clock went ahead. It follows within " +
                $"24 hours, or now with 'rovett clock --confirm'.");
    }

    static string Span(double seconds) => TimeSpan.FromSeconds(Math.Ceiling(seconds)).ToString("c", CultureInfo.InvariantCulture);
}
