using System.CommandLine;
using System.Globalization;
using System.Text.Json.Nodes;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Storage.Homes;
using Rovett.Storage.Sqlite;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett key</c></summary>
static class KeyCommand
{
    public static Command Build() => new("key", """
        Manage API keys.

        Example:
          rovett key create --name "booking backend" --scope send
        """) {
        Make(), List(),
        Things.Show("an API key", "id", "rovett key show k4Zt9qX2mQ0bV4k9dKx2Qp", id => "/v1/keys/" + Uri.EscapeDataString(id)), Rotate(),
        Revoke(), Recover(),
    };

    static Command Make()
    {
        var connection = new Connection();
        var name = new Option<string>("--name") { Description = "Purpose of the key.", Required = true };
        var scope = new Option<string[]>("--scope") { Description = "Scope: send, read or admin; may be repeated.", Required = true };
        scope.AcceptOnlyFromAmong("send", "read", "admin");
        var type = new Option<string[]>("--type")
        { Description = "Type it may send, exact or ending in *; may be repeated. Default: any." };
        var to = new Option<string[]>("--to")
        { Description = "Address it may send to, exact or ending in *; may be repeated. Default: any." };
        var events = new Option<string[]>("--event")
        { Description = "Type of event it may publish, exact or ending in *; may be repeated. Default: any." };
        var source = new Option<string[]>("--source")
        { Description = "Source it may publish for, exact or ending in *; may be repeated. Default: any." };
        var command = new Command("create", """
            Create an API key. It is shown only once.

            Example:
              rovett key create --name "booking backend" --scope send
              rovett key create --name "engine room" --scope send --type "engine.*" --to role:engineer
              rovett key create --name planning --scope send --event "engine.*" --source "/planning/*"
            """) { name, scope, type, to, events, source };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var body = new JsonObject { ["name"] = parsed.GetValue(name), ["scopes"] = List(parsed.GetValue(scope)) };
            if (parsed.GetValue(type) is { Length: > 0 } types) body["types"] = List(types);
            if (parsed.GetValue(events) is { Length: > 0 } mayPublish) body["events"] = List(mayPublish);
            if (parsed.GetValue(source) is { Length: > 0 } sources) body["sources"] = List(sources);
            if (parsed.GetValue(to) is { Length: > 0 } addresses) body["addresses"] = List(addresses);
            var answer = await client.Call(HttpMethod.Post, "/v1/keys", body, cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine($"[green]Created[/] {Output.Plain((string?)answer["name"])} ({answer["id"]}), shown only once:");
                Console.Out.WriteLine((string?)answer["key"]);
            }
            return 0;
        }));
        return command;
    }

    static JsonArray List(string[]? texts) => new([.. (texts ?? []).Select(t => (JsonNode)t)]);

    static Command Rotate()
    {
        var connection = new Connection();
        var id = new Argument<string>("id") { Description = "The key's id, from 'rovett key list'." };
        var overlap = new Option<string>("--overlap")
        { Description = "How long the old key stays valid: now, 12h, 7d.", DefaultValueFactory = _ => "24h" };
        var command = new Command("rotate", """
            Replace a key: same rights, with an overlap before the old one expires.

            Example:
              rovett key rotate mUqE0K4nVdKQ1rH0hD7kWQ --overlap 24h
            """) { id, overlap };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Post, $"/v1/keys/{Uri.EscapeDataString(parsed.GetValue(id)!)}/rotate",
                new JsonObject { ["overlap"] = parsed.GetValue(overlap) }, cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine(
                    $"[green]Created[/] {Output.Plain((string?)answer["name"])} ({answer["id"]}), shown only once; the " +
                    $"old key stays valid for {Output.Plain(parsed.GetValue(overlap))}:");
                Console.Out.WriteLine((string?)answer["key"]);
            }
            return 0;
        }));
        return command;
    }

    static Command List()
    {
        var connection = new Connection();
        var command = new Command("list", """
            List the space's API keys (never the keys themselves).

            Example:
              rovett key list
            """);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, "/v1/keys", cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                var table = new Table().Border(TableBorder.None)
                    .AddColumns("[grey]name[/]", "[grey]scopes[/]", "[grey]created[/]", "[grey]last used[/]", "[grey]id[/]");
                foreach (var key in answer["keys"]!.AsArray())
                {
                    table.AddRow(Output.Plain((string?)key!["name"]) +
                        (key["revoked"] is not null ? " [red](revoked)[/]" : key["ends"] is { } ends
                        ? $" [yellow](ends {((string)ends!)[..16].Replace('T', ' ')})[/]"
                        : ""),
                        string.Join(", ", key["scopes"]!.AsArray().Concat(key["types"]?.AsArray() ?? [])
                        .Concat(key["addresses"]?.AsArray() ?? []).Select(s => Output.Plain((string?)s))),
                        ((string?)key["created"])![..10], ((string?)key["lastUsed"])?[..16].Replace('T', ' ') ?? "never",
                        $"[grey]{key["id"]}[/]");
                }
                AnsiConsole.Write(table);
            }
            return 0;
        }));
        return command;
    }

    static Command Recover()
    {
        var data = new Option<string>("--data")
        {
            Description = "Data folder; the service must be stopped. [default: ROVETT_DATA, or data]",
            DefaultValueFactory = _ => Environment.GetEnvironmentVariable("ROVETT_DATA") ?? "data"
        };
        var database = new Option<string?>("--database")
        {
            Description = "PostgreSQL database in place of a data folder. [default: ROVETT_DATABASE, if --data is not given]",
            DefaultValueFactory = parsed => parsed.GetResult(data) is { Implicit: false } ? null
                : Environment.GetEnvironmentVariable("ROVETT_DATABASE")
        };
        var space = new Option<string>("--space") { Description = "Space of the key.", DefaultValueFactory = _ => "main" };
        var json = new Option<bool>("--json") { Description = "Print JSON." };
        var command = new Command("recover", """
            Create an admin key without having one, directly in the data folder or database of a stopped service.
            Use it when the last admin key is lost. The audit log records it.

            Example:
              rovett key recover --data ./data
            """) { data, database, space, json };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var (folder, name) = (parsed.GetValue(data)!, parsed.GetValue(space)!);
            using IStoreHome home = parsed.GetValue(database) is { } text ? Database(text) : Folder(folder);
            var histories = home.OpenHistory(1, static _ => { });
            try
            {
                if (histories[0].FindSpace(name) is null)
                {
                    throw new UsageException($"--space: no space '{name}' in '{home.Name}'.",
                        $"Spaces: {string.Join(", ", histories[0].Spaces())}.");
                }
            }
            finally
            {
                foreach (var one in histories) one.Dispose();
            }
            using var access = home.OpenAccess();
            var (stored, key) = new ApiKeys(access, TimeProvider.System).Make(name, "recovered admin key", ["admin"]);
            new AuditTrail(access, TimeProvider.System).Note(name, $"local:{Environment.UserName}", "api-key.recovered", stored.Id);
            if (parsed.GetValue(json)) Output.Json(new JsonObject { ["id"] = stored.Id, ["space"] = name, ["key"] = key });
            else
            {
                AnsiConsole.MarkupLine($"[green]Created[/] an admin key for space {Output.Plain(name)} ({stored.Id}), shown only once:");
                Console.Out.WriteLine(key);
            }
            return Task.FromResult(0);
        }));
        return command;
    }

    static DataFolder Folder(string folder) => File.Exists(Path.Combine(folder, SqliteFiles.AccessName)) ? new DataFolder(folder)
        : throw new UsageException($"--data: '{folder}' is not a Rovett data folder.",
            $"Name the folder that has {SqliteFiles.AccessName}.");

    static PostgresHome Database(string text) => PostgresHome.Mistake(text) is not { } mistake ? new PostgresHome(text)
        : throw new UsageException($"--database: {mistake}.", "Give it as Host=db.internal;Database=rovett;Username=rovett.");

    static Command Revoke()
    {
        var connection = new Connection();
        var id = new Argument<string>("id") { Description = "The key's id, from 'rovett key list'." };
        var command = new Command("remove", """
            Remove an API key. Takes effect at once.

            Example:
              rovett key remove mUqE0K4nVdKQ1rH0hD7kWQ
            """) { id };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            await client.Call(HttpMethod.Delete, "/v1/keys/" + Uri.EscapeDataString(parsed.GetValue(id)!), cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(new JsonObject { ["revoked"] = parsed.GetValue(id) });
            else AnsiConsole.MarkupLine("[green]Removed.[/] Requests with this key are now refused.");
            return 0;
        }));
        return command;
    }
}

/// <summary><c>rovett status</c></summary>
static class StatusCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var command = new Command("status", """
            Show the state of the service and its connections.

            Example:
              rovett status
            """);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var status = await client.Call(HttpMethod.Get, "/v1/status", cancel: cancel);
            status["live"] = (await client.Call(HttpMethod.Get, "/v1/sessions", cancel: cancel))["sessions"]!.DeepClone();
            if (parsed.GetValue(connection.Json)) Output.Json(status);
            else Print(status);
            return 0;
        }));
        return command;
    }

    static string Many(JsonNode count, string what) => $"[bold]{count}[/] {what}{((long)count == 1 ? "" : "s")}";

    static void PrintFaults(IAnsiConsole console, JsonNode status)
    {
        if ((long)status["bugs"]! > 0 || (long)status["storeFailures"]! > 0)
            console.MarkupLine($"[red]{status["bugs"]} bugs and {status["storeFailures"]} store failures[/] since the start; the " +
                $"service's log has their stacks");
        foreach (var fault in status["faults"]!.AsArray())
        {
            console.MarkupLine(
                $"  [red]bug[/] {Output.Plain((string?)fault!["what"])} in {Output.Plain((string?)fault["where"])}, {fault["count"]} " +
                $"times, last {Output.Plain(((string)fault["last"]!)[..19].Replace('T', ' '))}");
        }
        foreach (var aside in status["setAside"]!.AsArray())
        {
            console.MarkupLine(
                $"  [yellow]set aside[/] {Output.Plain((string?)aside!["kind"])} {Place(aside)}: " +
                $"{Output.Plain((string?)aside["why"])}");
        }
        if ((long)status["erasures"]! > 0) console.MarkupLine($"  {status["erasures"]} erasures are under way");
        foreach (var origin in status["originsRefused"]!.AsArray())
        {
            console.MarkupLine(
                $"  [yellow]origin refused[/] {Output.Plain((string?)origin!["origin"])}, {origin["count"]} times; " +
                $"{Output.Plain((string?)origin["fix"])}");
        }
    }

    /// <summary>Events and gatherings have a number, other work belongs to an entry.</summary>
    static string Place(JsonNode aside) => (string?)aside["kind"] is "event" or "gathering"
        ? $"{aside["detail"]!["number"]}"
        : $"at position {aside["position"]}";

    static void Print(JsonNode status)
    {
        var console = AnsiConsole.Console;
        var since = DateTime.Parse((string)status["since"]!, null, DateTimeStyles.AdjustToUniversal).ToLocalTime();
        console.MarkupLine(
            $"[green]Running[/] since {since:dd MMM HH:mm:ss}, version {status["version"]}, space [bold]" +
            $"{Output.Plain((string?)status["space"])}[/] at position {status["position"]} ({(long)status["historyBytes"]! / 1024} KiB " +
            $"in {Output.Plain((string?)status["data"])})");
        console.MarkupLine(
            $"{Many(status["users"]!, "user")} connected with {Many(status["sessions"]!, "session")}" +
            $"{string.Concat(status["transports"]!.AsObject().Select(t => $", {t.Value} over {t.Key}"))}");
        NodeTable.Print(status["nodes"]!.AsArray(), (string?)status["node"]);
        PrintFaults(console, status);
        ClockCommand.PrintWarnings(status["clock"]!);
        var live = status["live"]!.AsArray();
        if (live.Count == 0) return;
        var table = new Table().Border(TableBorder.None)
            .AddColumns("[grey]user[/]", "[grey]device[/]", "[grey]transport[/]", "[grey]state[/]", "[grey]since[/]", "[grey]sent[/]",
            "[grey]channels[/]");
        foreach (var session in live.Take(40))
        {
            var opened = DateTime.Parse((string)session!["since"]!, null, DateTimeStyles.AdjustToUniversal).ToLocalTime();
            table.AddRow(Output.Plain((string?)session["user"]), Output.Plain((string?)session["label"] ?? (string?)session["device"]),
                (string)session["transport"]!, (string)session["state"]!, opened.ToString("HH:mm:ss"), session["sent"]!.ToString(),
                string.Join(", ", session["channels"]!.AsArray().Select(c => Output.Plain((string?)c))));
        }
        console.Write(table);
    }
}
