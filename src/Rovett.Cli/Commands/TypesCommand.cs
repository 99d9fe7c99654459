using System.CommandLine;
using System.Globalization;
using System.Text.Json.Nodes;
using Rovett.Cli.Types;
using Rovett.Core.Catalogues;
using Rovett.Core.Yaml;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett types</c></summary>
static class TypesCommand
{
    public static Command Build() => new("types", """
        The catalogue of types: what notifications and events are called, and what their data must be.

        Example:
          rovett types load types.yaml
          rovett types generate rules.yaml --for typescript
        """) { Check(), Load(), List(), Generate() };

    static Argument<string> FileArgument() => new("file") { Description = "YAML or JSON file with types or events; - for standard input." };

    static Command Check()
    {
        var file = FileArgument();
        var command = new Command("check", """
            Check a catalogue. Needs no service.

            Example:
              rovett types check types.yaml
            """) { file };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            AnsiConsole.MarkupLine($"[green]Valid[/]: {Counted(Read(parsed.GetValue(file)!).Catalogue)}.");
            return Task.FromResult(0);
        }));
        return command;
    }

    static string Counted(Catalogue catalogue) => $"{catalogue.Types.Count} types of notification, {catalogue.Events.Count} of event";

    /// <summary>Reads a catalogue, alone or beside rules.</summary>
    /// <exception cref="MistakesException">It has mistakes.</exception>
    static (Catalogue Catalogue, byte[] Bytes) Read(string file)
    {
        var bytes = RulesCommand.BytesOf(file);
        var mistakes = new List<RuleMistake>();
        var catalogue = CatalogueReader.Read(bytes, mistakes);
        return mistakes.Count == 0 ? (catalogue, bytes) : throw new MistakesException(file, mistakes);
    }

    static Command Load()
    {
        var connection = new Connection();
        var file = FileArgument();
        var inPlaceOf = new Option<long?>("--in-place-of") { Description = "Load only if this version is still in effect." };
        var command = new Command("load", """
            Load a catalogue, all or nothing, in place of the one in effect. Of a rules file, its types and events.

            Example:
              rovett types load types.yaml
            """) { file, inPlaceOf };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var (catalogue, bytes) = Read(parsed.GetValue(file)!);
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Put, "/v1/types", () => RulesCommand.Yaml(bytes), cancel,
                ifMatch: parsed.GetValue(inPlaceOf)?.ToString(CultureInfo.InvariantCulture));
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                AnsiConsole.MarkupLine($"[green]Loaded[/] {Counted(catalogue)} as version {answer["version"]}; in effect now.");
                foreach (var warning in answer["warnings"]!.AsArray())
                {
                    AnsiConsole.MarkupLine($"[yellow]{Output.Plain((string?)warning)}[/]");
                }
            }
            return 0;
        }));
        return command;
    }

    static Command List()
    {
        var connection = new Connection();
        var command = new Command("list", """
            List the types of notification and of event in the catalogue.

            Example:
              rovett types list
            """);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, "/v1/types", cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else Print(answer);
            return 0;
        }));
        return command;
    }

    static void Print(JsonNode answer)
    {
        if ((long)answer["version"]! == 0)
        {
            AnsiConsole.MarkupLine("No catalogue: any type is taken. Load one with rovett types load.");
            return;
        }
        AnsiConsole.MarkupLine(
            $"Version [bold]{answer["version"]}[/]; other types are {((bool)answer["strict"]! ? "refused" : "taken as well")}");
        var table = new Table().Border(TableBorder.None)
            .AddColumns("[grey]notification[/]", "[grey]name[/]", "[grey]urgency[/]", "[grey]always[/]",
            "[grey]receipts[/]", "[grey]carry[/]", "[grey]data[/]");
        foreach (var type in answer["types"]!.AsArray())
        {
            table.AddRow(Output.Plain((string?)type!["type"]),
                Output.Plain(string.Join(" / ", type["names"]!.AsObject().Select(n => (string?)n.Value))),
                (string?)type["urgency"] ?? "", type["always"] is null ? "" : "yes", (string)type["receipts"]!, (string)type["carry"]!,
                Shape(type["data"]));
        }
        if (table.Rows.Count > 0) AnsiConsole.Write(table);
        var events = new Table().Border(TableBorder.None).AddColumns("[grey]event[/]", "[grey]data[/]");
        foreach (var type in answer["events"]!.AsArray()) events.AddRow(Output.Plain((string?)type!["type"]), Shape(type["data"]));
        if (events.Rows.Count > 0) AnsiConsole.Write(events);
    }

    static string Shape(JsonNode? schema) => schema is null ? "any"
        : schema["properties"] is JsonObject members ? Output.Plain(string.Join(", ", members.Select(m => m.Key))) : "by schema";

    static Command Generate()
    {
        var file = FileArgument();
        var language = new Option<string>("--for") { Description = "typescript or csharp.", Required = true };
        language.AcceptOnlyFromAmong("typescript", "csharp");
        var space = new Option<string>("--namespace") { Description = "The namespace, of C#.", DefaultValueFactory = _ => "Notifications" };
        var into = new Option<string?>("--out") { Description = "File to write. Default: standard output." };
        var command = new Command("generate", """
            Write the types by which senders and handlers are checked when they are compiled. Needs no service.

            Example:
              rovett types generate rules.yaml --for typescript --out src/types.ts
              rovett types generate rules.yaml --for csharp --namespace Ferries --out Types.cs
            """) { file, language, space, into };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var catalogue = Read(parsed.GetValue(file)!).Catalogue;
            var name = parsed.GetValue(space)!;
            if (!name.Split('.').All(p => p.Length > 0 && !char.IsDigit(p[0]) && p.All(c => char.IsAsciiLetterOrDigit(c) || c == '_')))
            {
                throw new UsageException($"'{name}' is not a namespace.", "Use names with dots between them: Ferries.Notifications");
            }
            var text = parsed.GetValue(language) == "csharp" ? CSharpWriter.Write(catalogue, name) : TypeScriptWriter.Write(catalogue);
            if (parsed.GetValue(into) is { } path)
            {
                File.WriteAllText(path, text);
                Output.Hint($"Wrote {path}.");
            }
            else Console.Out.Write(text);
            return Task.FromResult(0);
        }));
        return command;
    }
}
