using System.CommandLine;
using System.Globalization;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett policies</c></summary>
static class PoliciesCommand
{
    public static Command Build() => new("policies", """
        Who may subscribe to, follow, say something on and see presence on which topics.

        Example:
          rovett policies load policies.yaml
        """) { Show(), Put("check"), Put("load") };

    static Command Show()
    {
        var connection = new Connection();
        var version = new Option<long?>("--version-number") { Description = "Earlier version, by its number." };
        var command = new Command("show", """
            Show the policies in effect, or an earlier version.

            Example:
              rovett policies show
            """) { version };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get,
                "/v1/policies" + (parsed.GetValue(version) is { } number ? $"?version={number}" : ""), cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                var policies = answer["policies"]!.AsArray();
                AnsiConsole.MarkupLine((long)answer["version"]! == 0
                    ? "No policies loaded: topics need a grant."
                    : $"Version [bold]{answer["version"]}[/], loaded {((string)answer["loaded"]!)[..16].Replace('T', ' ')}");
                var table = new Table().Border(TableBorder.None)
                    .AddColumns("[grey]policy[/]", "[grey]topic[/]", "[grey]lets[/]", "[grey]when[/]");
                foreach (var p in policies)
                {
                    string Rights(string member, string word) =>
                        p![member] is JsonArray rights ? $"{word} {string.Join(", ", rights.Select(r => (string?)r))}" : "";
                    table.AddRow(Output.Plain((string?)p!["name"]), Output.Plain((string?)p["topic"]),
                        Rights("may", "[green]may[/]") + Rights("never", "[red]never[/]"),
                        Output.Plain(p["when"]!.ToJsonString()) + (p["ask"] is { } ask ? $", asks {Output.Plain((string?)ask)}" : ""));
                }
                if (policies.Count > 0) AnsiConsole.Write(table);
            }
            return 0;
        }));
        return command;
    }

    static Command Put(string verb)
    {
        bool load = verb == "load";
        var connection = new Connection();
        var file = new Argument<string>("file") { Description = "YAML or JSON file; - for standard input." };
        var inPlaceOf = new Option<long?>("--in-place-of") { Description = "Load only if this version is still in effect." };
        var command = new Command(verb, load ? """
            Load policies, all or none, in place of those that hold. Whoever loses a topic by it loses it at once.

            Example:
              rovett policies load policies.yaml
            """ : """
            Check policies without loading them.

            Example:
              rovett policies check policies.yaml
            """) { file };
        if (load) command.Options.Add(inPlaceOf);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var document = Yaml.Read(parsed.GetValue(file)!);
            using var client = connection.Backend(parsed);
            var expected = load ? parsed.GetValue(inPlaceOf)?.ToString(CultureInfo.InvariantCulture) : null;
            var answer = await client.Call(HttpMethod.Put, "/v1/policies" + (load ? "" : "?dryRun=true"), document, ifMatch: expected,
                cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine(load
                    ? $"[green]Loaded[/] {answer["policies"]} policies as version {answer["version"]}; in effect now."
                    : $"[green]Valid[/]: {answer["policies"]} policies. Nothing changed.");
            }
            return 0;
        }));
        return command;
    }
}

/// <summary><c>rovett grant</c></summary>
static class GrantCommand
{
    public static Command Build() => new("grant", """
        Give one user or role a right on one topic, for a time.

        Example:
          rovett grant create --user teo --topic berth/3 --may subscribe --for 8h
        """) { Give(), List(), End() };

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
                AnsiConsole.MarkupLine(
                    $"[green]Created[/] grant {answer["grant"]}" +
                    $"{(answer["until"] is { } until ? $", until {((string)until!)[..19].Replace('T', ' ')}" : "")}. Remove it with rovett " +
                    $"grant remove {answer["grant"]}");
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
                        ((string?)g["until"])?[..19].Replace('T', ' ') ?? "it is ended",
                        g["policy"] is { } policy ? $"the backend's answer to policy {Output.Plain((string?)policy)}" : "the API");
                }
                if (table.Rows.Count == 0) AnsiConsole.MarkupLine("No active grants.");
                else AnsiConsole.Write(table);
            }
            return 0;
        }));
        return command;
    }

    static Command End()
    {
        var connection = new Connection();
        var grant = new Argument<long>("grant") { Description = "Number of the grant, from 'rovett grant list'." };
        var command = new Command("remove", """
            Remove a grant. Its user leaves the topic at once.

            Example:
              rovett grant remove 41
            """) { grant };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            await client.Call(HttpMethod.Delete, $"/v1/grants/{parsed.GetValue(grant)}", cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(new JsonObject { ["ended"] = parsed.GetValue(grant) });
            else AnsiConsole.MarkupLine("[green]Removed.[/]");
            return 0;
        }));
        return command;
    }
}

/// <summary><c>rovett decider</c></summary>
static class DeciderCommand
{
    public static Command Build() => new("decider", """
        The backends that policies ask ("ask: rota"): a signed request for each question, a yes for a time.

        Example:
          rovett decider create rota --at https://backend.example/decide
        """) { Set(), List(), Remove() };

    static Command Set()
    {
        var connection = new Connection();
        var name = new Argument<string>("name") { Description = "Name that policies use." };
        var at = new Option<string>("--at") { Description = "URL of the decider (https).", Required = true };
        var timeout = new Option<int?>("--timeout-ms")
        { Description = "Milliseconds to wait for an answer; then the answer is no. [default: 2000]" };
        var allow = new Option<int?>("--allow-seconds")
        { Description = "Seconds a yes is valid, unless the answer says otherwise. [default: 300]" };
        var deny = new Option<int?>("--deny-seconds") { Description = "Seconds a no is valid. [default: 10]" };
        var command = new Command("create", """
            Create or change a decider. The secret that signs its requests is shown only once.

            Example:
              rovett decider create rota --at https://backend.example/decide --timeout-ms 500
            """) { name, at, timeout, allow, deny };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var body = new JsonObject { ["url"] = parsed.GetValue(at) };
            foreach (var (member, value) in new[]
                { ("timeoutMs", parsed.GetValue(timeout)), ("allowSeconds", parsed.GetValue(allow)),
                ("denySeconds", parsed.GetValue(deny)) })
            {
                if (value is not null) body[member] = value;
            }
            var answer = await client.Call(HttpMethod.Put, "/v1/deciders/" + Uri.EscapeDataString(parsed.GetValue(name)!), body,
                cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine(
                    $"[green]Stored.[/] Policies can now ask {Output.Plain((string?)answer["name"])} at {Output.Plain((string?)answer["url"])}.");
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
                if (table.Rows.Count == 0) AnsiConsole.MarkupLine("There is none. A policy that asks one refuses until it is set.");
                else AnsiConsole.Write(table);
            }
            return 0;
        }));
        return command;
    }

    static Command Remove()
    {
        var connection = new Connection();
        var name = new Argument<string>("name") { Description = "Name of the decider." };
        var command = new Command("remove", """
            Remove a decider. Its answers stay valid until they expire.

            Example:
              rovett decider remove rota
            """) { name };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            await client.Call(HttpMethod.Delete, "/v1/deciders/" + Uri.EscapeDataString(parsed.GetValue(name)!), cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(new JsonObject { ["removed"] = parsed.GetValue(name) });
            else AnsiConsole.MarkupLine("[green]Removed.[/]");
            return 0;
        }));
        return command;
    }
}
