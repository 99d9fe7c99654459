using System.CommandLine;
using System.Text.Json;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett signing-key</c></summary>
static class SigningKeyCommand
{
    public static Command Build() => new("signing-key", """
        What users' tokens are verified with: secrets, public keys, key sets, issuers.

        Example:
          rovett signing-key list
        """) {
        Add(), List(),
        Things.Show("a signing key", "name", "rovett signing-key show backend", name => "/v1/signing-keys/" + Uri.EscapeDataString(name)),
        Remove(),
    };

    static Command Add()
    {
        var connection = new Connection();
        var name = new Argument<string>("name") { Description = "Name of the signing key." };
        var kid = new Option<string?>("--kid") { Description = "Key id (kid) in token headers." };
        var publicKey = new Option<FileInfo?>("--public-key") { Description = "File with a public key as a JWK." };
        var keySet = new Option<string?>("--key-set")
        { Description = "URL of a key set (JWKS), or file:NAME for a file in the folder 'keys' of the data folder." };
        var issuer = new Option<string?>("--issuer") { Description = "An OpenID Connect issuer." };
        var command = new Command("create", """
            Create a signing key. Without options, a secret is generated and shown only once.

            Example:
              rovett signing-key create 2026-12 --kid 2026-12
              rovett signing-key create idp --issuer https://login.ferries.example
            """) { name, kid, publicKey, keySet, issuer };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var body = new JsonObject { ["name"] = parsed.GetValue(name) };
            if (parsed.GetValue(kid) is { } called) body["kid"] = called;
            if (parsed.GetValue(publicKey) is { } file) body["publicKey"] = Read(file);
            if (parsed.GetValue(keySet) is { } set) body["keySet"] = set;
            if (parsed.GetValue(issuer) is { } from) body["issuer"] = from;
            var answer = await client.Call(HttpMethod.Post, "/v1/signing-keys", body, cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else if ((string?)answer["secret"] is { } secret)
            {
                AnsiConsole.MarkupLine($"[green]Created[/] {Output.Plain((string?)answer["name"])}, a secret for HS256, shown only once:");
                Console.Out.WriteLine(secret);
            }
            else
            {
                AnsiConsole.MarkupLine(
                    $"[green]Created[/] {Output.Plain((string?)answer["name"])}. Tokens signed with it are now accepted.");
            }
            return 0;
        }));
        return command;
    }

    static JsonNode? Read(FileInfo file)
    {
        try
        {
            return JsonNode.Parse(File.ReadAllText(file.FullName));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or JsonException)
        {
            throw new UsageException($"--public-key: {file.Name} can't be read as JSON: {error.Message}",
                "Give a file with one JWK (RFC 7517).");
        }
    }

    static Command List()
    {
        var connection = new Connection();
        var command = new Command("list", """
            List the signing keys (never the secrets) with the state of remote key sets.

            Example:
              rovett signing-key list
            """);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, "/v1/signing-keys", cancel: cancel);
            if (parsed.GetValue(connection.Json))
            {
                Output.Json(answer);
                return 0;
            }
            var table = new Table().Border(TableBorder.None)
                .AddColumns("[grey]name[/]", "[grey]what[/]", "[grey]kid[/]", "[grey]added[/]", "[grey]state[/]");
            foreach (var key in answer["signingKeys"]!.AsArray())
            {
                var what = (string)key!["kind"]! switch
                {
                    "secret" => "secret, HS256",
                    "publicKey" => $"public key, {Output.Plain((string?)key["publicKey"]!["kty"])}",
                    "keySet" => Output.Plain((string?)key["keySet"]),
                    _ => Output.Plain((string?)key["issuer"])
                };
                var stands = (string?)key["error"] is { } error ? $"[red]{Output.Plain(error)}[/]" : key["keys"] is not { } count
                    ? ""
                    : key["fetched"] is { } at ? $"{count} keys, fetched {((string)at!)[11..19]}" : "not needed yet";
                table.AddRow(Output.Plain((string?)key["name"]), what, Output.Plain((string?)key["kid"]),
                    ((string)key["created"]!)[..10], stands);
            }
            AnsiConsole.Write(table);
            return 0;
        }));
        return command;
    }

    static Command Remove()
    {
        var connection = new Connection();
        var name = new Argument<string>("name") { Description = "The key's name." };
        var command = new Command("remove", """
            Remove a signing key. Tokens signed with it become invalid, and their sessions end.

            Example:
              rovett signing-key remove first
            """) { name };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Delete, "/v1/signing-keys/" + Uri.EscapeDataString(parsed.GetValue(name)!),
                cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else AnsiConsole.MarkupLineInterpolated($"[green]Removed.[/] {(long)answer["sessionsEnded"]!} sessions ended.");
            return 0;
        }));
        return command;
    }
}

/// <summary><c>rovett settings</c></summary>
static class SettingsCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var changes = new Argument<string[]>("change")
        {
            Description = "SETTING=VALUE; lists are separated by commas; an empty value restores the default.",
            Arity = ArgumentArity.ZeroOrMore
        };
        var command = new Command("settings", """
            Show or change the settings of a space. Changes take effect at once.

            Example:
              rovett settings
              rovett settings tokens.audiences=ferries tokens.maxLifeSeconds=3600
              rovett settings mail.host=mail.marrowsound.example mail.from=watch@marrowsound.example mail.domains=marrowsound.example
            """) { changes };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var given = parsed.GetValue(changes)!;
            foreach (var change in given.Where(c => c.IndexOf('=', StringComparison.Ordinal) < 1))
            {
                throw new UsageException($"'{change}' is not a change.", "Write SETTING=VALUE, such as tokens.audiences=ferries.");
            }
            var settings = await client.Call(HttpMethod.Get, "/v1/settings", cancel: cancel);
            if (given.Length > 0) settings = await client.Call(HttpMethod.Patch, "/v1/settings", Patch(given, settings.AsObject()), cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(settings);
            else
            {
                var table = new Table().Border(TableBorder.None).AddColumns("[grey]setting[/]", "[grey]value[/]");
                foreach (var (name, value) in Flat("", settings.AsObject())) table.AddRow(name, Output.Plain(value));
                if (settings["mail"] is null) table.AddRow("mail", "none");
                AnsiConsole.Write(table);
            }
            return 0;
        }));
        return command;
    }

    /// <summary>What a space without a mail server can set of it, with values of the right kind.</summary>
    static JsonObject MailSettings() => new()
    {
        ["host"] = "",
        ["port"] = 587,
        ["security"] = "starttls",
        ["user"] = "",
        ["password"] = "",
        ["from"] = "",
        ["fromName"] = "",
        ["domains"] = new JsonArray(),
        ["perHour"] = 100,
        ["linkBase"] = "",
    };

    static JsonObject Patch(string[] changes, JsonObject now)
    {
        now = now.DeepClone().AsObject();
        if (now["mail"] is null) now["mail"] = MailSettings();
        else
        {
            foreach (var (name, value) in MailSettings()) now["mail"]![name] ??= value?.DeepClone();
        }
        var patch = new JsonObject();
        foreach (var change in changes)
        {
            int equals = change.IndexOf('=', StringComparison.Ordinal);
            var path = change[..equals].Split('.');
            var text = change[(equals + 1)..];
            var (into, known) = (patch, (JsonNode?)now);
            foreach (var part in path[..^1])
            {
                if (into[part] is not JsonObject inner) into[part] = inner = [];
                (into, known) = (inner, (known as JsonObject)?[part]);
            }
            var names = known as JsonObject;
            if (names?.ContainsKey(path[^1]) != true)
            {
                var all = Flat("", now).Select(f => f.Item1).ToList();
                var near = NearNames.Among(all, change[..equals]);
                if (near.Count == 0) near = [.. all.Where(n => n.Split('.')[^1].Equals(path[^1], StringComparison.OrdinalIgnoreCase))];
                throw new UsageException($"'{change[..equals]}' is not a setting.",
                    near.Count > 0 ? $"Did you mean {string.Join(" or ", near)}?" : $"The settings are {string.Join(", ", all)}.");
            }
            var before = names[path[^1]];
            into[path[^1]] = text.Length == 0 ? null
                : before?.GetValueKind() is JsonValueKind.True or JsonValueKind.False && bool.TryParse(text, out bool flag) ? flag
                : before is JsonArray || path[^1] == "origins"
                ? new JsonArray(
                [.. text.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).Select(t => (JsonNode)t)])
                : (before is null || before.GetValueKind() == JsonValueKind.Number) && long.TryParse(text, out long number) ? number
                : text;
        }
        return patch;
    }

    static IEnumerable<(string, string)> Flat(string path, JsonObject at)
    {
        foreach (var (name, value) in at)
        {
            if (value is JsonObject inner)
            {
                foreach (var one in Flat(path + name + ".", inner)) yield return one;
            }
            else
            {
                yield return (path + name, value is null ? "as configured for the service" : value is JsonArray list ? list.Count == 0
                    ? "any"
                    : string.Join(", ", list.Select(t => (string?)t)) : value.ToString());
            }
        }
    }
}

/// <summary><c>rovett audit</c></summary>
static class AuditCommand
{
    public static Command Build()
    {
        var connection = new Connection();
        var after = new Option<long>("--after") { Description = "Start after this line number." };
        var command = new Command("audit", """
            Show the audit log: changes of keys, settings and users. With --json, each line is one JSON object for export.

            Example:
              rovett audit
            """) { after };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            bool json = parsed.GetValue(connection.Json);
            var table = new Table().Border(TableBorder.None)
                .AddColumns("[grey]#[/]", "[grey]time (UTC)[/]", "[grey]who[/]", "[grey]act[/]", "[grey]about[/]", "[grey]detail[/]");
            for (long? from = parsed.GetValue(after); from is not null;)
            {
                var answer = await client.Call(HttpMethod.Get, $"/v1/audit?after={from}", cancel: cancel);
                foreach (var act in answer["acts"]!.AsArray())
                {
                    if (json) Output.Json(act!, oneLine: true);
                    else
                    {
                        table.AddRow(act!["number"]!.ToString(), ((string)act["time"]!)[..19].Replace('T', ' '), Who((string)act["actor"]!),
                            Output.Plain((string?)act["act"]), Who((string)act["about"]!),
                            $"[grey]{Output.Plain(act["detail"]!.ToJsonString() is "{}" ? "" : act["detail"]!.ToJsonString())}[/]");
                    }
                }
                from = (long?)answer["next"];
            }
            if (!json) AnsiConsole.Write(table);
            return 0;
        }));
        return command;
    }

    /// <summary>A key by its name: its id is in --json.</summary>
    static string Who(string text) =>
        Output.Plain(text.StartsWith("key:", StringComparison.Ordinal)
        && text.IndexOf(' ', StringComparison.Ordinal) is > 0 and var space ? "key" + text[space..] : text);
}
