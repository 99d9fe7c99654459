using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Client;
using Spectre.Console;

namespace Rovett.Cli;

/// <summary>How the command line speaks: results on standard output, everything else on standard error.</summary>
static class Output
{
    static readonly JsonSerializerOptions Indented = new() { WriteIndented = true, Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };
    static readonly JsonSerializerOptions OneLine = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <summary>How the program was called, for commands to copy.</summary>
    public static readonly string Program = Environment.GetEnvironmentVariable("ROVETT_PROGRAM") ?? "rovett";

    public static readonly IAnsiConsole Errors = MakeErrors();

    static IAnsiConsole MakeErrors()
    {
        var console = AnsiConsole.Create(new AnsiConsoleSettings { Out = new AnsiConsoleOutput(System.Console.Error) });
        if (System.Console.IsErrorRedirected) console.Profile.Width = 4096;
        return console;
    }

    public static void Error(string message) => Errors.MarkupLineInterpolated($"[red]error:[/] {message}");

    public static void Hint(string message) => Errors.MarkupLineInterpolated($"[grey]{message}[/]");

    public static void Json(JsonNode node, bool oneLine = false) => System.Console.Out.WriteLine(node.ToJsonString(oneLine ? OneLine : Indented));

    /// <summary>Text from outside, safe in a terminal: no control characters, no markup.</summary>
    public static string Plain(string? text) => Markup.Escape(string.Concat((text ?? "").Select(c => char.IsControl(c) ? ' ' : c)));

    /// <summary>Runs a command and turns what goes wrong into words and an exit code: 2 for input that must change, 1 for
    /// everything else.</summary>
    public static async Task<int> Guard(Func<Task<int>> work)
    {
        try
        {
            return await work();
        }
        catch (RovettRefusedException refused)
        {
            Error($"{refused.Title}{(refused.Fields.Count == 0 ? $". {refused.Detail}" : ":")}");
            foreach (var (field, detail) in refused.Fields) Errors.MarkupLineInterpolated($"  [bold]{field}[/] {detail}");
            Hint(refused.Mend);
            return refused.Status is 400 or 413 or 422 ? 2 : 1;
        }
        catch (UsageException usage)
        {
            Error(usage.Message);
            Hint(usage.Mend);
            return 2;
        }
        catch (Rovett.Storage.Sqlite.StoreException unusable)
        {
            Error(unusable.Message);
            return 1;
        }
        catch (HttpRequestException unreachable)
        {
            Error($"The service can't be reached: {unreachable.Message}");
            Hint("Is it running? Start it with 'rovett serve', or name its address with --url or ROVETT_URL.");
            return 1;
        }
        catch (OperationCanceledException)
        {
            return 0;
        }
    }
}

/// <summary>Something on the command line must change.</summary>
sealed class UsageException(string message, string mend) : Exception(message)
{
    public string Mend { get; } = mend;
}
