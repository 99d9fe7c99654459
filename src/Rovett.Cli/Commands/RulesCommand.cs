using System.CommandLine;
using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Core.Catalogues;
using Rovett.Core.Notifications;
using Rovett.Core.Rules;
using Rovett.Core.Yaml;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett rules</c></summary>
static class RulesCommand
{
    const string NoTime = "-";

    public static Command Build() => new("rules", """
        Make notifications of events: whom to tell, in which words.

        Example:
          rovett rules check rules.yaml
          rovett rules load rules.yaml
        """) { Check(), Test(), Try(), Load(), List(), Show() };

    static Argument<string> FileArgument() => new("file") { Description = "YAML or JSON file; - for standard input." };

    static Option<bool> JsonOption() => new("--json") { Description = "Print JSON." };

    static Command Check()
    {
        var file = FileArgument();
        var json = JsonOption();
        var command = new Command("check", """
            Check rules, and run the tests beside them. Needs no service.

            Example:
              rovett rules check rules.yaml
            """) { file, json };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var (rules, _) = Read(parsed.GetValue(file)!);
            int failed = RunTests(rules, out var failures);
            var untested = RuleReader.Untested(rules);
            if (parsed.GetValue(json)) Output.Json(Results(rules, failures, untested));
            else
            {
                if (failed == 0) AnsiConsole.MarkupLine($"[green]Valid[/]: {Counted(rules)}.");
                PrintFailures(parsed.GetValue(file)!, failures);
                foreach (var name in untested) AnsiConsole.MarkupLine($"[yellow]no test[/] covers the rule '{Output.Plain(name)}'");
            }
            return Task.FromResult(failed == 0 ? 0 : 2);
        }));
        return command;
    }

    static string Counted(RuleSet rules) =>
        $"{rules.All.Count} {(rules.All.Count == 1 ? "rule" : "rules")}, {rules.Tests.Count} {(rules.Tests.Count == 1 ? "test" : "tests")}";

    static Command Test()
    {
        var file = FileArgument();
        var json = JsonOption();
        var command = new Command("test", """
            Run the tests beside rules. Needs no service.

            Example:
              rovett rules test rules.yaml
            """) { file, json };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var (rules, _) = Read(parsed.GetValue(file)!);
            int failed = RunTests(rules, out var failures);
            if (parsed.GetValue(json)) Output.Json(Results(rules, failures, []));
            else
            {
                PrintFailures(parsed.GetValue(file)!, failures);
                AnsiConsole.MarkupLine(failed == 0 ? $"[green]{rules.Tests.Count} passed[/]."
                    : $"{rules.Tests.Count - failed} passed, [red]{failed} failed[/].");
            }
            return Task.FromResult(failed == 0 ? 0 : 1);
        }));
        return command;
    }

    static JsonObject Results(RuleSet rules, List<(RuleTest Test, string Difference)> failures, IReadOnlyList<string> untested) => new()
    {
        ["rules"] = rules.All.Count,
        ["tests"] = rules.Tests.Count,
        ["failures"] = new JsonArray([.. failures.Select(f =>
            (JsonNode)new JsonObject { ["line"] = f.Test.Line, ["difference"] = f.Difference })]),
        ["untested"] = new JsonArray([.. untested.Select(u => (JsonNode)u)]),
    };

    static int RunTests(RuleSet rules, out List<(RuleTest Test, string Difference)> failures)
    {
        var setting = new RuleSetting(DateTimeOffset.UtcNow, TimeZoneInfo.Utc,
            type => (rules.Catalogue ?? Catalogue.None).TermsOf(type, static _ => ReceiptLevel.Totals, isStrict: false));
        failures = [.. rules.Tests.SelectMany(t => t.Run(rules, setting).Select(d => (t, d)))];
        return failures.Select(f => f.Test).Distinct().Count();
    }

    static void PrintFailures(string file, List<(RuleTest Test, string Difference)> failures)
    {
        foreach (var (test, difference) in failures)
        {
            AnsiConsole.MarkupLine($"[red]failed[/] {Output.Plain(file)}, line {test.Line}: {Output.Plain(difference)}");
        }
    }

    /// <summary>Reads a rules file.</summary>
    /// <exception cref="MistakesException">It has mistakes.</exception>
    static (RuleSet Rules, byte[] Bytes) Read(string file)
    {
        var bytes = BytesOf(file);
        var mistakes = new List<RuleMistake>();
        var rules = RuleReader.Read(bytes, mistakes);
        return mistakes.Count == 0 ? (rules, bytes) : throw new MistakesException(file, mistakes);
    }

    /// <summary>The content of a file, or of standard input.</summary>
    /// <exception cref="UsageException">It can't be read.</exception>
    internal static byte[] BytesOf(string file)
    {
        try
        {
            if (file != "-") return File.ReadAllBytes(file);
            using var buffer = new MemoryStream();
            Console.OpenStandardInput().CopyTo(buffer);
            return buffer.ToArray();
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new UsageException($"{file} can't be read: {error.Message}", "Check its name, or give - to read from standard input.");
        }
    }

    static Command Load()
    {
        var connection = new Connection();
        var file = FileArgument();
        var inPlaceOf = new Option<long?>("--in-place-of") { Description = "Load only if this version is still in effect." };
        var untested = new Option<bool>("--despite-tests") { Description = "Load although tests fail." };
        var command = new Command("load", """
            Load rules, all or none, in place of those in effect. Tests that fail keep them from being loaded.

            Example:
              rovett rules load rules.yaml
            """) { file, inPlaceOf, untested };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var (rules, bytes) = Read(parsed.GetValue(file)!);
            int failed = RunTests(rules, out var failures);
            if (failed > 0 && !parsed.GetValue(untested))
            {
                PrintFailures(parsed.GetValue(file)!, failures);
                throw new UsageException($"{failed} of {rules.Tests.Count} tests failed; nothing was loaded.",
                    "Correct the rules or the tests, or load them with --despite-tests.");
            }
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Put, "/v1/rules", () => Yaml(bytes), cancel,
                ifMatch: parsed.GetValue(inPlaceOf)?.ToString(CultureInfo.InvariantCulture));
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine($"[green]Loaded[/] {Counted(rules)} as version {answer["version"]}; in effect now.");
                foreach (var warning in answer["warnings"]!.AsArray())
                {
                    AnsiConsole.MarkupLine($"[yellow]{Output.Plain((string?)warning)}[/]");
                }
            }
            return 0;
        }));
        return command;
    }

    internal static ByteArrayContent Yaml(byte[] bytes)
    {
        var content = new ByteArrayContent(bytes);
        content.Headers.ContentType = new("application/yaml");
        return content;
    }

    static Command Try()
    {
        var connection = new Connection();
        var file = new Argument<string>("event")
        { Description = "File with an event in the JSON format of CloudEvents; - for standard input." };
        var with = new Option<string?>("--with") { Description = "Rules to try it with. Default: those in effect." };
        var command = new Command("try", """
            Show what rules make of an event: which match and why others don't, whom it would reach, the finished text.
            Nothing is stored or sent.

            Example:
              rovett rules try event.json --with rules.yaml
            """) { file, with };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var body = new JsonObject { ["event"] = EventCommand.Complete(Cli.Yaml.Read(parsed.GetValue(file)!)) };
            if (parsed.GetValue(with) is { } rules) body["document"] = Encoding.UTF8.GetString(Read(rules).Bytes);
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Post, "/v1/rules/try", body, cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else PrintTried(answer);
            return 0;
        }));
        return command;
    }

    static void PrintTried(JsonNode answer)
    {
        var rules = answer["rules"]!.AsArray();
        if (rules.Count == 0)
        {
            AnsiConsole.MarkupLine("[yellow]No rule[/] is for this type of event."
                + (answer["nearest"] is { } near ? $" Did you mean {Output.Plain((string?)near)}?" : ""));
        }
        foreach (var rule in rules)
        {
            bool matches = (bool)rule!["matches"]!;
            AnsiConsole.MarkupLine(
                $"{(matches ? "[green]matches[/]" : "[grey]no match[/]")}  [bold]{Output.Plain((string?)rule["rule"])}[/]"
                + (rule["because"] is { } because ? $"  {Output.Plain((string?)because)}" : ""));
            if (rule["fails"] is { } fails) AnsiConsole.MarkupLine($"  [red]fails[/]  {Output.Plain((string?)fails)}");
            if (rule["gathersForSeconds"] is { } span) AnsiConsole.MarkupLine($"  gathered for {TimeSpan.FromSeconds((long)span)}");
            foreach (var made in rule["notifications"]!.AsArray()) PrintTriedNotification(made!);
            if (matches && (int)rule["count"]! == 0 && rule["fails"] is null) AnsiConsole.MarkupLine("  nobody to tell: nothing is sent");
        }
    }

    static void PrintTriedNotification(JsonNode made)
    {
        var body = made["notification"]!.AsObject();
        var reach = string.Join(", ", made["reach"]!.AsArray()
            .Select(r => $"{r!["address"]} ({r["users"]} {((long)r["users"]! == 1 ? "user" : "users")}, {r["connected"]} connected)"));
        AnsiConsole.MarkupLine($"  to     {Output.Plain(reach)}");
        foreach (var (name, value) in body)
        {
            if (name is "to" or "title") continue;
            var text = value is JsonValue v && v.GetValueKind() == JsonValueKind.String ? (string)v! : value?.ToJsonString() ?? "null";
            if (name is "type" or "subject" or "urgency") continue;
            AnsiConsole.MarkupLine($"  {name,-6} {Output.Plain(text)}");
        }
        AnsiConsole.MarkupLine($"  [bold]{Output.Plain((string?)body["title"])}[/]  [grey]{Output.Plain((string?)body["type"])}, " +
            $"{made["bytes"]} bytes[/]");
    }

    static Command List()
    {
        var connection = new Connection();
        var command = new Command("list", """
            List the rules in effect, with how often each matched since the service started.

            Example:
              rovett rules list
            """);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, "/v1/rules", cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else PrintList(answer);
            return 0;
        }));
        return command;
    }

    static void PrintList(JsonNode answer)
    {
        var rules = answer["rules"]!.AsArray();
        AnsiConsole.MarkupLine((long)answer["version"]! == 0 ? "No rules loaded: events make no notifications."
            : $"Version [bold]{answer["version"]}[/], loaded {((string)answer["loaded"]!)[..16].Replace('T', ' ')}");
        var table = new Table().Border(TableBorder.None).AddColumns("[grey]rule[/]", "[grey]event[/]", "[grey]to[/]", "[grey]matched[/]",
            "[grey]last[/]", "[grey]last failure[/]");
        foreach (var rule in rules)
        {
            table.AddRow(Output.Plain((string?)rule!["name"]), Names(rule["events"]), Names(rule["to"]), rule["matched"]!.ToString(),
                Clock(rule["lastMatched"]), rule["lastReason"] is { } reason
                ? $"[red]{Clock(rule["lastFailed"])}[/] {Output.Plain((string?)reason)}" : NoTime);
        }
        if (rules.Count > 0) AnsiConsole.Write(table);
        foreach (var unmatched in answer["unmatched"]!.AsArray())
        {
            AnsiConsole.MarkupLine(
                $"[yellow]No rule[/] matched {unmatched!["count"]} of the type {Output.Plain((string?)unmatched["type"])}"
                + (unmatched["nearest"] is { } near ? $"; did you mean {Output.Plain((string?)near)}?" : "."));
        }
    }

    static string Names(JsonNode? list) => Output.Plain(string.Join(", ", list!.AsArray().Select(e => (string?)e)));

    static string Clock(JsonNode? time) => DateTime.TryParse((string?)time, null, DateTimeStyles.AdjustToUniversal, out var t)
        ? t.ToLocalTime().ToString("d MMM HH:mm:ss", CultureInfo.InvariantCulture) : NoTime;

    static Command Show()
    {
        var connection = new Connection();
        var version = new Option<long?>("--version-number") { Description = "Earlier version, by its number." };
        var command = new Command("show", """
            Show the rules in effect as they were loaded, or an earlier version.

            Example:
              rovett rules show > rules.yaml
            """) { version };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get,
                "/v1/rules" + (parsed.GetValue(version) is { } number ? $"?version={number}" : ""), cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else if (answer["document"] is { } document) Console.Out.Write((string)document!);
            else Output.Hint("No rules are loaded.");
            return 0;
        }));
        return command;
    }
}
