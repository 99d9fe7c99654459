using System.CommandLine;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace Rovett.Cli.Conformance;

/// <summary><c>rovett conformance</c></summary>
static class ConformanceCommand
{
    const int AtATime = 6;

    public static Command Build()
    {
        var client = new Option<string>("--client")
        {
            Description = "The command that starts your client: it finds ROVETT_URL in its " +
            "environment, and prints what its application sees (docs/conformance).",
            Required = true
        };
        var only = new Option<string?>("--only") { Description = "Only conversations whose name contains this." };
        var folder = new Option<string?>("--conversations")
        { Description = "Folder with other conversations than the built-in ones." };
        var json = new Option<bool>("--json") { Description = "Print JSON." };
        var command = new Command("conformance", """
            Test a client library of any language against recorded conversations, over each transport.

            Example:
              rovett conformance --client "python3 my_client.py" --only resume
            """) { client, only, folder, json };
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var all = Conversation.Load(parsed.GetValue(folder) ?? Path.Combine(AppContext.BaseDirectory, "conformance"));
            var chosen = all.FindAll(c => c.Name.Contains(parsed.GetValue(only) ?? "", StringComparison.Ordinal));
            if (chosen.Count == 0)
            {
                throw new UsageException($"--only: no conversation name contains '{parsed.GetValue(only)}'.",
                    $"There are {string.Join(", ", all.Select(c => c.Name))}.");
            }
            var results = new JsonArray();
            using var places = new SemaphoreSlim(AtATime);
            var held = chosen.ConvertAll(
                c => (Conversation: c, Over: c.Through.Select(
                t => (Transport: t, Outcome: Hold(c, t, parsed.GetValue(client)!, places, cancel))).ToList()));
            foreach (var (conversation, over) in held)
            {
                var (transports, whys) = ("", "");
                foreach (var (transport, holding) in over)
                {
                    var (outcome, why) = await holding;
                    results.Add(
                        new JsonObject
                        {
                            ["conversation"] = conversation.Name,
                            ["transport"] = transport,
                            ["outcome"] = outcome,
                            ["why"] = why
                        });
                    transports += outcome switch
                    {
                        "passed" => $" [green]✓[/] {transport}",
                        "skipped" => $" [grey]– {transport}[/]",
                        _ => $" [red]✗[/] {transport}"
                    };
                    if (outcome == "failed") whys += $"\n      {transport}: {Output.Plain(why)}";
                }
                if (!parsed.GetValue(json))
                {
                    AnsiConsole.MarkupLine($"  {conversation.Name}  {Output.Plain(conversation.Title)}\n     {transports}{whys}");
                }
            }
            int wrong = results.Count(r => (string)r!["outcome"]! == "failed"),
                skipped = results.Count(r => (string)r!["outcome"]! == "skipped");
            if (parsed.GetValue(json)) Output.Json(new JsonObject { ["conforms"] = wrong == 0, ["results"] = results });
            else
            {
                AnsiConsole.MarkupLine(
                    $"{results.Count - wrong - skipped} passed, {wrong} failed" +
                    $"{(skipped > 0 ? $", {skipped} skipped: the client does not claim to support them" : "")}.");
            }
            return wrong == 0 ? 0 : 1;
        }));
        return command;
    }

    static async Task<(string Outcome, string? Why)> Hold(Conversation conversation, string through, string command, SemaphoreSlim places,
        CancellationToken cancel)
    {
        await places.WaitAsync(cancel);
        try
        {
            return await Hold(conversation, through, command);
        }
        finally
        {
            places.Release();
        }
    }

    static async Task<(string Outcome, string? Why)> Hold(Conversation conversation, string through, string command)
    {
        await using var stage = await Stage.Set(through);
        using var client = new ClientUnderTest(command, stage.Url);
        var rehearsal = new Rehearsal(conversation, stage, client);
        try
        {
            var can = await rehearsal.Capabilities();
            if (conversation.Needs.FirstOrDefault(n => !can.Contains(n)) is { } missing) return ("skipped", $"needs '{missing}'");
            await rehearsal.Run();
            return ("passed", null);
        }
        catch (Deviation deviation)
        {
            return ("failed", deviation.Message);
        }
    }
}
