using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Storage;
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
        var console = AnsiConsole.Create(new AnsiConsoleSettings { Out = new AnsiConsoleOutput(Console.Error) });
        if (Console.IsErrorRedirected) console.Profile.Width = 4096;
        return console;
    }

    /// <summary>The caller reads JSON, so that what goes wrong is JSON too: a line on standard error.</summary>
    public static bool AsJson { get; set; }

    public static void Error(string message)
    {
        if (AsJson) Line(new JsonObject { ["title"] = message });
        else Errors.MarkupLineInterpolated($"[red]error:[/] {message}");
    }

    public static void Hint(string message)
    {
        if (AsJson) Line(new JsonObject { ["note"] = message });
        else Errors.MarkupLineInterpolated($"[grey]{message}[/]");
    }

    /// <summary>The members of a problem (RFC 9457).</summary>
    /// <param name="slug">The last part of its type.</param>
    /// <param name="title">The title.</param>
    /// <param name="detail">This case; null where the title says it.</param>
    /// <param name="fix">The fix; null: none.</param>
    /// <param name="fields">Each field at fault.</param>
    /// <param name="status">The HTTP status, if the service answered.</param>
    public static void Problem(string slug, string title, string? detail, string? fix,
        IReadOnlyList<(string Field, string Detail)>? fields = null, int? status = null)
    {
        if (AsJson)
        {
            var problem = new JsonObject { ["type"] = "urn:rovett:problem:" + slug, ["title"] = title };
            if (status is { } code) problem["status"] = code;
            if (detail is { Length: > 0 }) problem["detail"] = detail;
            if (fix is { Length: > 0 }) problem["fix"] = fix;
            if (fields is { Count: > 0 })
            {
                problem["errors"] =
                    new JsonArray([.. fields.Select(f => (JsonNode)new JsonObject { ["field"] = f.Field, ["detail"] = f.Detail })]);
            }
            Line(problem);
            return;
        }
        bool isList = fields is { Count: > 0 };
        Error(isList ? title + ":" : detail is { Length: > 0 } ? $"{title}. {detail}" : title);
        foreach (var (field, about) in fields ?? []) Errors.MarkupLineInterpolated($"  [bold]{field}[/] {about}");
        if (fix is { Length: > 0 }) Hint(fix);
    }

    static void Line(JsonObject json) => Console.Error.WriteLine(json.ToJsonString(OneLine));

    /// <summary>A word as a shell reads it.</summary>
    public static string Quoted(string word) => word.Length > 0
        && word.All(c => char.IsAsciiLetterOrDigit(c) || "-_./:@%+,=".Contains(c))
        ? word
        : "'" + word.Replace("'", "'\\''", StringComparison.Ordinal) + "'";

    public static void Json(JsonNode node, bool oneLine = false) => Console.Out.WriteLine(node.ToJsonString(oneLine ? OneLine : Indented));

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
            Problem(refused.Slug, refused.Title, refused.Detail, refused.Fix, refused.Fields, refused.Status);
            return refused.Status is 400 or 413 or 422 ? 2 : 1;
        }
        catch (MistakesException wrong)
        {
            Problem("invalid-request", $"{wrong.File} has {wrong.Mistakes.Count} {(wrong.Mistakes.Count == 1 ? "mistake" : "mistakes")}",
                null,
                "Correct the file and run it again; nothing was changed.",
                [.. wrong.Mistakes.Select(m => ($"{m.Line}:{m.Column}", $"{m.Field} {m.Detail}"))]);
            return 2;
        }
        catch (UsageException usage)
        {
            Problem("usage", usage.Message, null, usage.Fix);
            return 2;
        }
        catch (StoreException unusable)
        {
            Problem("store-unusable", unusable.Message, null, null);
            return 1;
        }
        catch (HttpRequestException unreachable)
        {
            Problem("unreachable", "The service can't be reached", unreachable.Message,
                "Start it with 'rovett serve', or set its URL with --url or ROVETT_URL.");
            return 1;
        }
        catch (OperationCanceledException)
        {
            return 0;
        }
    }
}

/// <summary>Something on the command line must change.</summary>
sealed class UsageException(string message, string fix) : Exception(message)
{
    public string Fix { get; } = fix;
}
