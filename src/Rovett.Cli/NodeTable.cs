using System.Globalization;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli;

/// <summary>The nodes of a cluster as they are printed.</summary>
static class NodeTable
{
    /// <summary>Prints the nodes of a cluster, if there are any.</summary>
    public static void Print(JsonArray nodes, string? here)
    {
        if (nodes.Count == 0) return;
        var table = new Table().Border(TableBorder.None)
            .AddColumns("[grey]node[/]", "[grey]state[/]", "[grey]spaces[/]", "[grey]version[/]", "[grey]since[/]");
        foreach (var node in nodes)
        {
            var state = (string)node!["state"]!;
            var since = DateTime.Parse((string)node["since"]!, CultureInfo.InvariantCulture, DateTimeStyles.AdjustToUniversal)
                .ToLocalTime();
            var name = (string?)node["node"];
            table.AddRow($"{Output.Plain(name)}{(name == here ? " [grey](answers)[/]" : "")}",
                state == "serving" ? state : $"[{(state == "silent" ? "red" : "yellow")}]{Output.Plain(state)}[/]",
                node["spaces"]!.ToString(),
                Output.Plain((string?)node["version"]), since.ToString("dd MMM HH:mm:ss", CultureInfo.InvariantCulture));
        }
        AnsiConsole.Write(table);
        foreach (var node in nodes)
        {
            if (node!["unreached"] is not JsonArray { Count: > 0 } lost) continue;
            AnsiConsole.MarkupLine($"[yellow]{Output.Plain($"{node["node"]} can't reach {string.Join(", ", lost)}")}[/]");
        }
    }
}
