using System.CommandLine;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett follow</c></summary>
static class FollowCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var topic = new Argument<string?>("topic")
        { Description = "Topic, such as berth/3. Default: list only.", Arity = ArgumentArity.ZeroOrOne };
        var stop = new Option<bool>("--stop") { Description = "Unfollow the topic." };
        var command = new Command("follow", """
            Follow a topic as a user: its notifications are stored in the inbox and counted, also while offline. Lists the followed topics.

            Example:
              rovett follow berth/3 --user mara
              rovett follow berth/3 --user mara --stop
            """) { topic, stop };
        connection.AddUser(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var which = parsed.GetValue(topic);
            if (which is null && parsed.GetValue(stop))
            {
                throw new UsageException("--stop needs a topic.", "Name it: rovett follow berth/3 --user mara --stop");
            }
            using var client = connection.AsUser(parsed);
            var answer = which is null ? await client.Call(HttpMethod.Get, "/v1/follows", cancel: cancel)
                : parsed.GetValue(stop)
                ? await client.Call(HttpMethod.Delete, "/v1/follows?topic=" + Uri.EscapeDataString(which), cancel: cancel)
                : await client.Call(HttpMethod.Post, "/v1/follows", new JsonObject { ["topic"] = which }, cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                var follows = answer["follows"]!.AsArray();
                if (follows.Count == 0) AnsiConsole.MarkupLine("No topics followed.");
                foreach (var f in follows)
                {
                    AnsiConsole.MarkupLine(
                        $"follows [bold]{Output.Plain((string?)f!["topic"])}[/]{((bool)f["active"]! ? "" : "  [red](may not now: " +
                        "nothing of it is sent)[/]")}");
                }
            }
            return 0;
        }));
        return command;
    }
}
