using System.CommandLine;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett decider</c></summary>
static class DeciderCommand
{
    public static Command Build() => new("decider", """
        The backends that policies ask ("ask: rota"): a signed request for each question, a yes for a time.

        Example:
          rovett decider create rota --at https://backend.example/decide
        """) {
        Put("create"), List(), Things.Show("a decider", "name", "rovett decider show rota", Path), Put("update"),
        Things.Remove("a decider", "name", "Its answers stay valid until they expire.", "rovett decider remove rota", Path),
    };

    static string Path(string name) => "/v1/deciders/" + Uri.EscapeDataString(name);

    static Command Put(string verb)
    {
        bool creates = verb == "create";
        var connection = new Connection();
        var name = new Argument<string>("name") { Description = "Name that policies use." };
        var at = new Option<string?>("--at") { Description = "URL of the decider (https).", Required = creates };
        var timeout = new Option<int?>("--timeout-ms")
        { Description = "Milliseconds to wait for an answer; then the answer is no. [default: 2000]" };
        var allow = new Option<int?>("--allow-seconds")
        { Description = "Seconds a yes is valid, unless the answer says otherwise. [default: 300]" };
        var deny = new Option<int?>("--deny-seconds") { Description = "Seconds a no is valid. [default: 10]" };
        var command = new Command(verb, creates ? """
            Create a decider. The secret that signs its requests is shown only once.

            Example:
              rovett decider create rota --at https://backend.example/decide --timeout-ms 500
            """ : """
            Change a decider. What is left out stays; its secret stays too.

            Example:
              rovett decider update rota --timeout-ms 800
            """) { name, at, timeout, allow, deny };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var path = Path(parsed.GetValue(name)!);
            var before = await Things.Find(client, path, cancel);
            Things.RequireVerb(creates, before is not null, "decider", "decider", parsed.GetValue(name)!);
            var body = new JsonObject { ["url"] = parsed.GetValue(at) ?? (string?)before?["url"] };
            foreach (var (member, value) in new[]
                { ("timeoutMs", parsed.GetValue(timeout)), ("allowSeconds", parsed.GetValue(allow)),
                ("denySeconds", parsed.GetValue(deny)) })
            {
                if ((value ?? (int?)before?[member]) is { } number) body[member] = number;
            }
            var answer = await client.Call(HttpMethod.Put, path, body, cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine(
                    $"[green]Stored.[/] Policies can now ask {Output.Plain((string?)answer["name"])} at " +
                    $"{Output.Plain((string?)answer["url"])}.");
                if (answer["secret"] is { } secret) Console.Out.WriteLine($"Secret that signs its requests (shown only once): {secret}");
            }
            return 0;
        }));
        return command;
    }

    static Command List()
    {
        var connection = new Connection();
        var command = new Command("list", """
            List the deciders and their state.

            Example:
              rovett decider list
            """);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, "/v1/deciders", cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                var table = new Table().Border(TableBorder.None)
                    .AddColumns("[grey]decider[/]", "[grey]at[/]", "[grey]state[/]", "[grey]asked[/]", "[grey]allowed[/]",
                    "[grey]denied[/]", "[grey]no answer[/]", "[grey]last trouble[/]");
                foreach (var d in answer["deciders"]!.AsArray())
                    table.AddRow(Output.Plain((string?)d!["name"]), Output.Plain((string?)d["url"]), (string)d["state"]!,
                        d["asked"]!.ToString(), d["allowed"]!.ToString(), d["denied"]!.ToString(), d["failed"]!.ToString(),
                        Output.Plain((string?)d["lastError"]));
                if (table.Rows.Count == 0)
                {
                    AnsiConsole.MarkupLine("No deciders. A policy that asks one allows nothing until it is created.");
                }
                else AnsiConsole.Write(table);
            }
            return 0;
        }));
        return command;
    }
}
