using System.CommandLine;
using System.Data.Common;
using System.Reflection;
using System.Text.Json.Nodes;
using Npgsql;
using Rovett.Service.Options;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett config</c></summary>
static class ConfigCommand
{
    // Variables of the commands, beside those of the settings.
    static readonly string[] OfCommands = ["ROVETT_URL", "ROVETT_KEY", "ROVETT_TOKEN", "ROVETT_TOKEN_SECRET", "ROVETT_SPACE",
        "ROVETT_PROGRAM"];

    public static Command Build() => new("config", """
        Check the settings of a service.

        Example:
          rovett config check --config rovett.yaml
        """) { Check() };

    static Command Check()
    {
        var config = new Option<string?>("--config") { Description = "A YAML file with settings." };
        var all = new Option<bool>("--all") { Description = "Also show settings that have their default." };
        var json = new Option<bool>("--json") { Description = "Print JSON." };
        var command = new Command("check", """
            Check the settings in a file and in the environment, as 'rovett serve' would read them, and show where each comes from. Nothing
            is started. Run it before a restart or a reload (systemctl reload rovett, or SIGHUP).

            Example:
              rovett config check --config /etc/rovett/rovett.yaml
            """) { config, all, json };
        command.SetAction((parsed, _) => Output.Guard(() =>
        {
            var (options, wrong) = ServeCommand.Read(parsed.GetValue(config), new Dictionary<string, string>(), out var origins);
            var strange = ServeCommand.Variables().Keys.Except(OptionsReader.All.Keys.Select(OptionsReader.VariableOf))
                .Except(OfCommands).Order().ToList();
            var shown = OptionsReader.All.Where(s => parsed.GetValue(all) || origins.ContainsKey(s.Key))
                .Select(s => (s.Key, Value: Shown(s.Key, s.Value.GetValue(options)), From: origins.GetValueOrDefault(s.Key),
                    AtRunTime: s.Value.IsDefined(typeof(AtRunTimeAttribute)))).ToList();
            if (parsed.GetValue(json))
            {
                Output.Json(new JsonObject
                {
                    ["mistakes"] = new JsonArray([.. wrong.Select(w => (JsonNode)w)]),
                    ["unknownVariables"] = new JsonArray([.. strange.Select(v => (JsonNode)v)]),
                    ["settings"] = new JsonArray([.. shown.Select(s => (JsonNode)new JsonObject
                    {
                        ["name"] = s.Key, ["value"] = s.Value, ["from"] = s.From ?? "default", ["atRunTime"] = s.AtRunTime,
                    })]),
                });
                return Task.FromResult(wrong.Count > 0 ? 2 : 0);
            }
            if (wrong.Count == 0) Show(shown);
            foreach (var variable in strange) Warn(variable);
            foreach (var mistake in wrong) Output.Error(mistake);
            if (wrong.Count > 0) Output.Hint($"A service would not start with {(wrong.Count == 1 ? "this" : $"these {wrong.Count}")}, " +
                "and a running one would keep its settings.");
            else AnsiConsole.MarkupLine("[green]The settings are valid.[/]");
            return Task.FromResult(wrong.Count > 0 ? 2 : 0);
        }));
        return command;
    }

    static void Show(List<(string Name, string Value, string? From, bool AtRunTime)> settings)
    {
        if (settings.Count == 0)
        {
            Output.Hint("No settings are given: all have their defaults (--all shows them).");
            return;
        }
        var table = new Table().Border(TableBorder.None).AddColumns("[bold]setting[/]", "[bold]value[/]", "[bold]from[/]",
            "[bold]changes take effect[/]");
        foreach (var (name, value, from, atRunTime) in settings)
        {
            table.AddRow(Markup.Escape(name), Markup.Escape(value.Length == 0 ? "–" : value), Markup.Escape(from ?? "default"),
                atRunTime ? "on reload" : "on restart");
        }
        AnsiConsole.Write(table);
    }

    static void Warn(string variable)
    {
        var near = NearNames.Among(OptionsReader.All.Keys.Select(OptionsReader.VariableOf), variable).FirstOrDefault();
        Output.Hint($"{variable} is not the variable of a setting: nothing reads it.{(near is null ? "" : $" Did you mean {near}?")}");
    }

    /// <summary>Without passwords.</summary>
    static string Shown(string name, object? value)
    {
        if (name != "database" || value is not string text) return OptionChange.Shown(value);
        try
        {
            var settings = new NpgsqlConnectionStringBuilder(text);
            if (settings.Password is not null) settings.Password = "…";
            return settings.ConnectionString;
        }
        catch (Exception error) when (error is ArgumentException or DbException)
        {
            return "…";
        }
    }
}
