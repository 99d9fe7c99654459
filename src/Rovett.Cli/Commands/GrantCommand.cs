using System.CommandLine;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett grant</c></summary>
static class GrantCommand
{
    public static Command Build() => new("grant", """
        Give one user or role a right on one topic, for a time.

        Example:
          rovett grant create --user teo --topic berth/3 --may subscribe --for 8h
        """) {
        Give(), List(), Things.Show("a grant", "grant", "rovett grant show 41", n => "/v1/grants/" + Uri.EscapeDataString(n)),
        Things.Remove("a grant", "grant", "Its user leaves the topic at once.", "rovett grant remove 41",
            n => "/v1/grants/" + Uri.EscapeDataString(n)),
    };

    static readonly string[] Rights = ["subscribe", "follow", "say", "presence"];

    static Command Give()
    {
        var connection = new Connection();
        var user = new Option<string?>("--user") { Description = "User to grant the right to." };
        var role = new Option<string?>("--role") { Description = "Role to grant the right to." };
        var topic = new Option<string>("--topic") { Description = "Topic, such as berth/3.", Required = true };
        var may = new Option<string[]>("--may")
        {
            Description = "Right: subscribe, follow, say or presence; may be repeated.",
            Required = true
        };
        may.AcceptOnlyFromAmong(Rights);
        var duration = new Option<string?>("--for") { Description = "Duration: 30m, 8h, 7d. Default: no expiry." };
        var command = new Command("create", """
            Grant a user or a role a right on a topic.

            Example:
              rovett grant create --user teo --topic berth/3 --may subscribe --may follow --for 8h
            """) { user, role, topic, may, duration };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var body = new JsonObject
            {
                ["topic"] = parsed.GetValue(topic),
                ["may"] = new JsonArray([.. parsed.GetValue(may)!.Select(r => (JsonNode)r)])
            };
            foreach (var (name, value) in new[] { ("user", parsed.GetValue(user)), ("role", parsed.GetValue(role)),
                ("for", parsed.GetValue(duration)) })
            {
                if (value is not null) body[name] = value;
            }
            var answer = await client.Call(HttpMethod.Post, "/v1/grants", body, cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                var end = answer["until"] is { } until ? $", until {((string)until!)[..19].Replace('T', ' ')}" : "";
                AnsiConsole.MarkupLine(
                    $"[green]Created[/] grant {answer["grant"]}{end}. Remove it with rovett grant remove {answer["grant"]}");
            }
            return 0;
        }));
        return command;
    }

    static Command List()
    {
        var connection = new Connection();
        var user = new Option<string?>("--user") { Description = "Filter by user." };
        var role = new Option<string?>("--role") { Description = "Filter by role." };
        var topic = new Option<string?>("--topic") { Description = "Filter by topic." };
        var command = new Command("list", """
            List the active grants.

            Example:
              rovett grant list --topic berth/3
            """) { user, role, topic };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var query = string.Concat(
                new[] { ("user", parsed.GetValue(user)), ("role", parsed.GetValue(role)),
                ("topic", parsed.GetValue(topic)) }.Where(q => q.Item2 is not null)
                    .Select(q => $"&{q.Item1}={Uri.EscapeDataString(q.Item2!)}"));
            var answer = await client.Call(HttpMethod.Get, "/v1/grants?after=0" + query, cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                var table = new Table().Border(TableBorder.None)
                    .AddColumns("[grey]grant[/]", "[grey]to[/]", "[grey]topic[/]", "[grey]may[/]", "[grey]until[/]", "[grey]by[/]");
                foreach (var g in answer["grants"]!.AsArray())
                {
                    table.AddRow(g!["grant"]!.ToString(), Output.Plain(g["user"] is { } u ? $"user:{u}" : $"role:{g["role"]}"),
                        Output.Plain((string?)g["topic"]), string.Join(", ", g["may"]!.AsArray().Select(r => (string?)r)),
                        ((string?)g["until"])?[..19].Replace('T', ' ') ?? "no expiry",
                        g["policy"] is { } policy ? $"the backend's answer to policy {Output.Plain((string?)policy)}" : "the API");
                }
                if (table.Rows.Count == 0) AnsiConsole.MarkupLine("No active grants.");
                else AnsiConsole.Write(table);
            }
            return 0;
        }));
        return command;
    }
}
