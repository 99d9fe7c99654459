using System.CommandLine;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett withdraw</c></summary>
static class WithdrawCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var id = new Argument<string>("id") { Description = "Notification id, from the response to the send." };
        var command = new Command("withdraw", """
            Withdraw a notification: it is removed from every inbox and count.

            Example:
              rovett withdraw 01KB8Q0M5H0000000000000000
            """) { id };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Delete, $"/v1/notifications/{Uri.EscapeDataString(parsed.GetValue(id)!)}",
                cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else if ((bool)answer["changed"]!) AnsiConsole.MarkupLineInterpolated($"[green]Withdrawn[/] at {(string)answer["time"]!}");
            else AnsiConsole.MarkupLineInterpolated($"No change: already {(string)answer["state"]!} at {(string)answer["time"]!}");
            return 0;
        }));
        return command;
    }
}
