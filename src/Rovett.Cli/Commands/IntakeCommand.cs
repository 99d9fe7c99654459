using System.CommandLine;
using System.Globalization;
using System.Text.Json.Nodes;
using Rovett.Service.Intakes.Outbox;
using Rovett.Service.Intakes.Reading;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett intake</c></summary>
static class IntakeCommand
{
    public static Command Build() => new("intake", """
        See and control the intakes: the outboxes, brokers, lines and schedules that events are taken from.

        Example:
          rovett intake list
          rovett intake test planning
        """)
    {
        List(), Show(),
        Turn("pause", "Pause an intake: it finishes its current batch and takes nothing more until it is resumed, even after a restart."),
        Turn("resume", "Resume a paused intake."), Test(), Check(), Sql(),
    };

    static Argument<string> Name() => new("name") { Description = "The intake's name." };

    static Command List()
    {
        var connection = new Connection();
        var command = new Command("list", """
            List the intakes of a space with their state.

            Example:
              rovett intake list
            """);
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, "/v1/intakes", cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else PrintList(answer["intakes"]!.AsArray());
            return 0;
        }));
        return command;
    }

    static void PrintList(JsonArray intakes)
    {
        if (intakes.Count == 0)
        {
            AnsiConsole.MarkupLine("No intakes. They are configured in a file: rovett serve --intakes intakes.yaml");
            return;
        }
        var table = new Table().Border(TableBorder.None).AddColumns("[grey]name[/]", "[grey]kind[/]", "[grey]state[/]")
            .AddColumn(Right("events")).AddColumn(Right("a second")).AddColumn(Right("waiting there")).AddColumn(Right("set aside"));
        foreach (var one in intakes)
        {
            table.AddRow(Output.Plain((string?)one!["name"]), (string)one["kind"]!, State(one), Number(one["events"]),
                ((double)one["perSecond"]!).ToString("0.#", CultureInfo.InvariantCulture), Number(one["behind"]), Number(one["setAside"]));
        }
        AnsiConsole.Write(table);
        foreach (var one in intakes)
        {
            if ((string?)one!["reason"] is { } reason) AnsiConsole.MarkupLine($"[yellow]{one["name"]}[/]: {Output.Plain(reason)}");
        }
    }

    static TableColumn Right(string title) => new TableColumn($"[grey]{title}[/]").RightAligned();

    static string Number(JsonNode? number) => number is null ? "" : ((long)number).ToString("N0", CultureInfo.InvariantCulture);

    static string State(JsonNode one) => (string)one["state"]! switch
    {
        "running" => "[green]running[/]",
        "waiting" => "[yellow]waiting[/]",
        var other => other,
    };

    static Command Show()
    {
        var connection = new Connection();
        var name = Name();
        var command = new Command("show", """
            Show an intake: its state, its numbers, and how far it has read.

            Example:
              rovett intake show planning
            """) { name };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Get, $"/v1/intakes/{Uri.EscapeDataString(parsed.GetValue(name)!)}", cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else Print(answer);
            return 0;
        }));
        return command;
    }

    static void Print(JsonNode one)
    {
        AnsiConsole.MarkupLine($"[bold]{Output.Plain((string?)one["name"])}[/]  {one["kind"]}  {Output.Plain((string?)one["from"])}");
        AnsiConsole.MarkupLine($"{State(one)} since {Time(one["since"])}"
            + ((string?)one["reason"] is { } reason ? $": [yellow]{Output.Plain(reason)}[/]" : ""));
        var notifications = (long)one["notifications"]! == 1 ? "notification" : "notifications";
        AnsiConsole.MarkupLine($"{Number(one["events"])} events since the service started ({Number(one["repeated"])} repeated, "
            + $"{Number(one["unmatched"])} without a rule), {Number(one["notifications"])} {notifications}");
        if (one["lastTaken"] is { } last)
        {
            AnsiConsole.MarkupLine($"last at {Time(last)}"
                + (one["lagMs"] is { } lag ? $", {Number(lag)} ms after the source had it" : ""));
        }
        if (one["behind"] is { } behind) AnsiConsole.MarkupLine($"{Number(behind)} waiting at the source");
        if ((long)one["setAside"]! > 0)
        {
            AnsiConsole.MarkupLine($"[yellow]{Number(one["setAside"])} set aside[/], last: {Output.Plain((string?)one["lastReason"])}");
        }
        if ((long)one["dropped"]! > 0) AnsiConsole.MarkupLine($"[yellow]{Number(one["dropped"])} dropped[/]");
        if ((string?)one["lost"] is { } lost) AnsiConsole.MarkupLine($"[red]lost:[/] {Output.Plain(lost)}");
        foreach (var place in one["places"]?.AsArray() ?? [])
        {
            AnsiConsole.MarkupLine($"[grey]read up to[/]  {Output.Plain((string?)place!["part"])} {Output.Plain((string?)place["place"])}");
        }
    }

    static string Time(JsonNode? time) => ((string)time!)[..19].Replace('T', ' ');

    static Command Turn(string word, string description)
    {
        var connection = new Connection();
        var name = Name();
        var command = new Command(word, $"""
            {description}

            Example:
              rovett intake {word} planning
            """) { name };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Post, $"/v1/intakes/{Uri.EscapeDataString(parsed.GetValue(name)!)}/{word}",
                cancel: cancel);
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else AnsiConsole.MarkupLine($"{Output.Plain((string?)answer["name"])} is {(word == "pause" ? "paused" : "resumed")}.");
            return 0;
        }));
        return command;
    }

    static Command Test()
    {
        var connection = new Connection();
        var name = Name();
        var command = new Command("test", """
            Check that the source of an intake can be used, without taking anything. Exit code 2: it can't.

            Example:
              rovett intake test planning
            """) { name };
        connection.AddBackend(command);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            using var client = connection.Backend(parsed);
            var answer = await client.Call(HttpMethod.Post, $"/v1/intakes/{Uri.EscapeDataString(parsed.GetValue(name)!)}/test",
                cancel: cancel);
            bool works = (bool)answer["works"]!;
            if (parsed.GetValue(connection.Json)) Output.Json(answer);
            else
            {
                foreach (var found in answer["found"]!.AsArray()) AnsiConsole.MarkupLine($"[green]✓[/] {Output.Plain((string?)found)}");
                if (!works) Output.Error((string)answer["reason"]!);
            }
            return works ? 0 : 2;
        }));
        return command;
    }

    static Command Check()
    {
        var file = new Argument<string>("file") { Description = "The file of intakes." };
        var command = new Command("check", """
            Check a file of intakes without a service, and list every mistake with its line. Exit code 2: there are mistakes.

            Example:
              rovett intake check intakes.yaml
            """) { file };
        command.SetAction(parsed =>
        {
            var (found, mistakes) = IntakeFile.Load(parsed.GetValue(file)!);
            foreach (var mistake in mistakes) Output.Error(mistake);
            if (mistakes.Count > 0) return 2;
            foreach (var intake in found) AnsiConsole.MarkupLine($"[green]✓[/] {intake.Space}/{intake.Name}  {intake.Kind.Word}  " +
                Output.Plain(intake.Kind.From));
            return 0;
        });
        return command;
    }

    static Command Sql()
    {
        var table = new Option<string>("--table")
        { Description = "The table's name, with a schema or without.", DefaultValueFactory = _ => OutboxKind.DefaultTable };
        var reader = new Option<string?>("--reader")
        { Description = "The database user that the intake connects as; the SQL grants what it needs." };
        var command = new Command("outbox-sql", """
            Print the SQL that creates an outbox, for a migration of the backend's database.

            Example:
              rovett intake outbox-sql --reader rovett > migrations/0042-outbox.sql
            """) { table, reader };
        command.SetAction(parsed =>
        {
            foreach (var (name, option) in new[] { (parsed.GetValue(table)!, "--table"), (parsed.GetValue(reader) ?? "x", "--reader") })
            {
                if (OutboxSql.IsName(name)) continue;
                Output.Error($"{option}: '{name}' would need quotes.");
                Output.Hint("Use only a-z, 0-9 and _; a table may have a schema: planning.rovett_outbox.");
                return 2;
            }
            Console.Out.Write(OutboxSql.Create(parsed.GetValue(table)!, parsed.GetValue(reader)));
            return 0;
        });
        return command;
    }
}
