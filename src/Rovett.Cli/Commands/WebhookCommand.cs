using System.CommandLine;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett webhook</c></summary>
static class WebhookCommand
{
    public static Command Build() => new("webhook", """
        Post receipts to your backend: who received, read or took what, and which deadlines were missed. A webhook with the purpose
        'otherwise' is called by missed deadlines that name it.

        Example:
          rovett webhook create backend --at https://backend.example/rovett --state read --state deadlineMissed
        """)
    {
        Put("create"), List(),
        Things.Show("a webhook", "name", "rovett webhook show backend", Path),
        Put("update"),
        Things.Remove("a webhook", "name", "Receipts are kept; they are only no longer posted.", "rovett webhook remove backend", Path),
    };

    static string Path(string name) => "/v1/webhooks/" + Uri.EscapeDataString(name);

    static Command Put(string verb)
    {
        bool creates = verb == "create";
        var connection = new Connection();
        var name = new Argument<string>("name") { Description = "Name of the webhook." };
        var at = new Option<string?>("--at") { Description = "URL that receipts are posted to (https).", Required = creates };
        var state = new Option<string[]>("--state")
        { Description = "Only receipts of this state, such as read; may be repeated. Default: every state." };
        var type = new Option<string[]>("--type")
        { Description = "Only receipts of this type, exact or ending in *; may be repeated. Default: every type." };
        var purpose = new Option<string?>("--purpose")
        { Description = "receipts, or otherwise: called by missed deadlines that name it. Default: receipts." };
        purpose.AcceptOnlyFromAmong("receipts", "otherwise");
        var fromStart = new Option<bool>("--from-start")
        { Description = "Begin with the oldest receipt that is kept, not with the next one." };
        var command = new Command(verb, creates ? """
            Create a webhook. The secret that signs its calls is shown only once.

            Example:
              rovett webhook create backend --at https://backend.example/rovett --type "engine.*"
              rovett webhook create pager --at https://pager.example/calls --purpose otherwise
            """ : """
            Change a webhook. What is left out stays; its secret and position stay too.

            Example:
              rovett webhook update backend --at https://backend.example/receipts
            """) { name, at, state, type };
        if (creates)
        {
            command.Options.Add(purpose);
            command.Options.Add(fromStart);
        }
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var path = Path(parsed.GetValue(name)!);
            var before = await Things.Find(client, path, cancel);
            Things.RequireVerb(creates, before is not null, "webhook", "webhook", parsed.GetValue(name)!);
            var body = new JsonObject { ["url"] = parsed.GetValue(at) ?? (string?)before?["url"] };
            bool tellsReceipts = (before is null ? parsed.GetValue(purpose) : (string?)before["purpose"]) != "otherwise";
            if (creates && parsed.GetValue(purpose) is { } given) body["purpose"] = given;
            if (tellsReceipts || parsed.GetValue(state) is { Length: > 0 })
            {
                body["states"] = List(parsed.GetValue(state), before?["states"]);
            }
            if (tellsReceipts || parsed.GetValue(type) is { Length: > 0 }) body["types"] = List(parsed.GetValue(type), before?["types"]);
            if (creates && parsed.GetValue(fromStart)) body["after"] = "start";
            var answer = await client.Call(HttpMethod.Put, path, body, cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine($"[green]{(creates ? "Created" : "Updated")}.[/] " +
                    $"{(tellsReceipts ? "Receipts" : "Missed deadlines that name it")} are posted to " +
                    $"{Output.Plain((string?)answer["url"])}.");
                if (answer["secret"] is { } secret) Console.Out.WriteLine($"Secret that signs the calls (shown only once): {secret}");
            }
            return 0;
        }));
        return command;
    }

    static JsonArray List(string[]? given, JsonNode? before) => given is { Length: > 0 }
        ? new([.. given.Select(t => (JsonNode)t)])
        : before?.DeepClone() as JsonArray ?? [];

    static Command List()
    {
        var connection = new Connection();
        var command = new Command("list", """
            List the webhooks and how they are doing.

            Example:
              rovett webhook list
            """);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, "/v1/webhooks", cancel: cancel);
            if (parsed.GetValue(connection.Json))
            {
                Output.Json(answer);
                return 0;
            }
            var table = new Table().Border(TableBorder.None)
                .AddColumns("[grey]webhook[/]", "[grey]purpose[/]", "[grey]at[/]", "[grey]state[/]",
                "[grey]behind[/]", "[grey]only[/]", "[grey]last error[/]");
            foreach (var w in answer["webhooks"]!.AsArray())
            {
                table.AddRow(Output.Plain((string?)w!["name"]), (string)w["purpose"]!, Output.Plain((string?)w["url"]), (string)w["state"]!,
                    w["behind"]!.ToString(),
                    Output.Plain(string.Join(", ", w["states"]!.AsArray().Concat(w["types"]!.AsArray()).Select(t => (string?)t))),
                    Output.Plain((string?)w["lastError"]));
            }
            if (table.Rows.Count == 0) AnsiConsole.MarkupLine("No webhooks. Create one with rovett webhook create.");
            else AnsiConsole.Write(table);
            return 0;
        }));
        return command;
    }
}
