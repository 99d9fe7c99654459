using System.CommandLine;
using System.Text.Json.Nodes;
using Rovett.Client;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary>The common part of the commands for every kind of thing: keys, grants, webhooks …</summary>
static class Things
{
    /// <summary>The command <c>show</c>.</summary>
    /// <param name="thing">The thing, with its article: <c>a webhook</c>.</param>
    /// <param name="argument">The name of its key argument: <c>name</c>, <c>id</c>.</param>
    /// <param name="example">A call.</param>
    /// <param name="path">Where it is.</param>
    public static Command Show(string thing, string argument, string example, Func<string, string> path)
    {
        var connection = new Connection();
        var named = new Argument<string>(argument) { Description = $"The {argument} of {thing}." };
        var command = new Command("show", $"""
            Show {thing}.

            Example:
              {example}
            """) { named };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = (await client.Call(HttpMethod.Get, path(parsed.GetValue(named)!), cancel: cancel))!;
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else Print(answer);
            return 0;
        }));
        return command;
    }

    /// <summary>The command <c>remove</c>.</summary>
    /// <param name="thing">The thing, with its article.</param>
    /// <param name="argument">The name of its key argument.</param>
    /// <param name="effect">The consequence to confirm.</param>
    /// <param name="example">A call.</param>
    /// <param name="path">Where it is.</param>
    public static Command Remove(string thing, string argument, string effect, string example, Func<string, string> path)
    {
        var connection = new Connection();
        var named = new Argument<string>(argument) { Description = $"The {argument} of {thing}." };
        var command = new Command("remove", $"""
            Remove {thing}. {effect}

            Example:
              {example}
            """) { named };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            await client.Call(HttpMethod.Delete, path(parsed.GetValue(named)!), cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(new JsonObject { ["removed"] = parsed.GetValue(named) });
            else AnsiConsole.MarkupLine("[green]Removed.[/]");
            return 0;
        }));
        return command;
    }

    /// <summary>Whether there is something at a path.</summary>
    public static async Task<JsonNode?> Find(RovettClient client, string path, CancellationToken cancel)
    {
        try
        {
            return await client.Call(HttpMethod.Get, path, cancel: cancel);
        }
        catch (RovettRefusedException refused) when (refused.Status == 404)
        {
            return null;
        }
    }

    /// <summary>Checks that a user to create does not exist, and that a user to change does.</summary>
    /// <exception cref="UsageException">It is the other way round.</exception>
    public static void RequireVerb(bool creates, bool exists, string command, string kind, string name)
    {
        if (creates && exists)
        {
            throw new UsageException($"The {kind} '{name}' exists already.",
                $"Change it with {Output.Program} {command} update, or choose another name.");
        }
        if (!creates && !exists)
        {
            throw new UsageException($"There is no {kind} '{name}'.", $"Create it with {Output.Program} {command} create.");
        }
    }

    /// <summary>Prints the members of a thing, one a line.</summary>
    public static void Print(JsonNode thing)
    {
        var grid = new Grid().AddColumns(2);
        foreach (var (name, value) in thing.AsObject()) grid.AddRow($"[grey]{Output.Plain(name)}[/]", Output.Plain(Text(value)));
        AnsiConsole.Write(grid);
    }

    static string Text(JsonNode? value) => value switch
    {
        null => "",
        JsonArray list => string.Join(", ", list.Select(Text)),
        JsonObject some => string.Join(", ", some.Select(m => $"{m.Key} {Text(m.Value)}")),
        _ => value.ToString(),
    };
}
