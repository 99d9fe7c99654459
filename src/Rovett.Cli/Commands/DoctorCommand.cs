using System.CommandLine;
using System.Text.Json.Nodes;
using Rovett.Cli.Doctor;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett doctor</c></summary>
static class DoctorCommand
{
    const string Page = "docs/doctor.md";

    public static Command Build()
    {
        var connection = new Connection();
        var url = new Option<string?>("--url")
        { Description = "Examine the service from outside, at the address its users have: https://notify.example" };
        var config = new Option<string?>("--config")
        { Description = "Examine from inside, with the settings of this file and of the environment." };
        var data = new Option<string?>("--data") { Description = "Examine this data folder and the machine from inside." };
        var database = new Option<string?>("--database") { Description = "Examine this PostgreSQL database and the machine from inside." };
        var origin = new Option<string[]>("--origin")
        { Description = "A page that connects, as the browser writes it: https://app.example. May be repeated." };
        var quick = new Option<bool>("--quick")
        { Description = "Leave out what takes longer: quiet connections (a heartbeat long), and the whole store." };
        var command = new Command("doctor", """
            Find what is wrong with a service before its users do. From inside (--data, --database or --config): folder, disk, store, clock,
            limits, certificate. From outside (--url): the way through the proxy, TLS, origins, key and token, a test notification over each
            transport, quiet connections. Each finding comes with its fix. Nothing is stored.

            Exit code: 0, 1 when something is at fault.

            Example:
              rovett doctor --data /var/lib/rovett
              rovett doctor --url https://notify.example --origin https://app.example
            """) { url, config, data, database, origin, quick };
        Connection.Add(command, connection.Space, connection.Key, connection.Token, connection.Secret, connection.Json);
        command.SetAction((parsed, cancel) => Output.Guard(async () =>
        {
            var address = parsed.GetValue(url) ?? Environment.GetEnvironmentVariable("ROVETT_URL");
            bool isInside = new[] { config, data, database }.Any(o => parsed.GetValue(o) is not null) || address is null;
            if (address is not null && (!Uri.TryCreate(address, UriKind.Absolute, out var given)
                || given.Scheme is not ("http" or "https")))
                throw new UsageException($"--url: '{address}' is not an http(s) URL.", "Write it as https://notify.example.");
            bool json = parsed.GetValue(connection.Json);
            var found = new List<Finding>();
            void Show(Finding finding)
            {
                found.Add(finding);
                if (!json) Print(finding);
            }
            if (isInside) ExamineInside(parsed, config, data, database, parsed.GetValue(quick), Show);
            if (address is not null)
            {
                using var outside = new Outside(new OutsideTarget(new Uri(address), parsed.GetValue(connection.Space) ?? "main",
                    parsed.GetValue(connection.Key) ?? Environment.GetEnvironmentVariable("ROVETT_KEY"), Token(connection, parsed),
                    parsed.GetValue(origin) ?? [], !parsed.GetValue(quick)));
                await foreach (var finding in outside.Examine())
                {
                    Show(finding);
                    cancel.ThrowIfCancellationRequested();
                }
            }
            if (json) Output.Json(AsJson(found));
            else Summarise(found);
            return found.Exists(f => f.Verdict == Verdict.Fault) ? 1 : 0;
        }));
        return command;
    }

    static void ExamineInside(ParseResult parsed, Option<string?> config, Option<string?> data, Option<string?> database, bool isQuick,
        Action<Finding> show)
    {
        var flags = new Dictionary<string, string>();
        if (parsed.GetValue(data) is { } folder) flags["data"] = folder;
        if (parsed.GetValue(database) is { } place) flags["database"] = place;
        var (options, mistakes) = ServeCommand.Read(parsed.GetValue(config), flags, out _);
        if (mistakes.Count == 0) show(Finding.Fine("configuration", "The configuration is valid."));
        foreach (var mistake in mistakes) show(Finding.Fault("configuration", mistake, "Correct it where it says; 'rovett " +
            "serve' does not start with it. docs/configuration.md lists every setting."));
        foreach (var finding in new Inside(options, DateTimeOffset.UtcNow, isQuick).Examine()) show(finding);
    }

    /// <summary>The token that was given, or one for a user of its own.</summary>
    static string? Token(Connection connection, ParseResult parsed)
    {
        var ready = parsed.GetValue(connection.Token) ?? Environment.GetEnvironmentVariable("ROVETT_TOKEN");
        if (!string.IsNullOrEmpty(ready)) return Connection.RequireToken(ready);
        var secret = parsed.GetValue(connection.Secret) ?? Environment.GetEnvironmentVariable("ROVETT_TOKEN_SECRET");
        return string.IsNullOrEmpty(secret) ? null
            : Connection.MakeToken(secret, Outside.DoctorUser + Guid.NewGuid().ToString("N")[..8], null, TimeSpan.FromMinutes(15));
    }

    static string Word(Verdict verdict) => verdict.ToString().ToLowerInvariant();

    static void Print(Finding finding)
    {
        var colour = finding.Verdict switch { Verdict.Fine => "green", Verdict.Skipped => "grey", Verdict.Warning => "yellow", _ => "red" };
        var see = finding.Fix is null ? "" : $" [grey]{Page}#{finding.Check}[/]";
        AnsiConsole.MarkupLine($"[{colour}]{Word(finding.Verdict),-8}[/] [bold]{finding.Check,-16}[/] {Output.Plain(finding.What)}{see}");
        if (finding.Fix is { } fix) AnsiConsole.MarkupLine($"{"",26}[{colour}]>[/] {Output.Plain(fix)}");
    }

    static void Summarise(List<Finding> found)
    {
        int faults = found.Count(f => f.Verdict == Verdict.Fault), warnings = found.Count(f => f.Verdict == Verdict.Warning),
            skipped = found.Count(f => f.Verdict == Verdict.Skipped);
        AnsiConsole.WriteLine();
        AnsiConsole.MarkupLine($"{found.Count - skipped} examined: [{(faults > 0 ? "red" : "green")}]{faults} at fault[/], " +
            $"[{(warnings > 0 ? "yellow" : "green")}]{warnings} with a warning[/]{(skipped > 0 ? $"; {skipped} not examined" : "")}.");
    }

    static JsonObject AsJson(List<Finding> found) => new()
    {
        ["faults"] = found.Count(f => f.Verdict == Verdict.Fault),
        ["warnings"] = found.Count(f => f.Verdict == Verdict.Warning),
        ["findings"] = new JsonArray([.. found.Select(f =>
        {
            var json = new JsonObject { ["check"] = f.Check, ["verdict"] = Word(f.Verdict), ["what"] = f.What };
            if (f.Fix is { } fix) (json["fix"], json["see"]) = (fix, $"{Page}#{f.Check}");
            return (JsonNode)json;
        })]),
    };
}
