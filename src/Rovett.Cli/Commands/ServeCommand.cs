using System.Collections;
using System.CommandLine;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using Rovett.Service.Hosting;
using Rovett.Service.Intakes.Reading;
using Rovett.Service.Options;
using Rovett.Storage;
using Spectre.Console;

namespace Rovett.Cli.Commands;

/// <summary><c>rovett serve</c></summary>
static class ServeCommand
{
    public static Command Build()
    {
        var config = new Option<string?>("--config") { Description = "A YAML file with settings." };
        var consoleLink = new Option<bool>("--console-link")
        { Description = "Print a new one-time sign-up link for the console (15 minutes)." };
        var settings = new (string Name, Option<string?> Option)[]
        {
            ("data", new("--data") { Description = "Data folder. [default: data]" }),
            ("backups", new("--backups")
                { Description = "Folder to which the service backs up its data folder, once a day unless backupEvery says otherwise." }),
            ("database", new("--database")
                { Description = "PostgreSQL database to store everything in, not in a data folder: Host=…;Database=…;Username=…" }),
            ("nodeUrl", new("--node-url")
                { Description =
                "Where the other nodes of a cluster reach this one, such as https://10.0.0.5:7412; they share the database." }),
            ("clusterSecretFile", new("--cluster-secret-file")
                { Description = "File with the secret that all nodes share: openssl rand -hex 32." }),
            ("address", new("--address") { Description = "The IP address to listen on. [default: 127.0.0.1]" }),
            ("port", new("--port") { Description = "The TCP port; 0 takes a free one. [default: 7411]" }),
            ("readyFile", new("--ready-file")
                { Description =
                "Write the URL, and on the first start the credentials, to this file (mode 0600) once the service listens." }),
            ("spaces", new("--spaces") { Description = "Spaces besides main, separated by commas." }),
            ("origins", new("--origins") { Description = "Browser origins that may connect, separated by commas." }),
            ("certificate", new("--certificate")
                { Description = "PEM file with the certificate (TLS and HTTP/2); renewals are picked up without a restart." }),
            ("certificateKey", new("--certificate-key") { Description = "PEM file with the certificate's private key." }),
            ("newcomers", new("--newcomers") { Description = "How far back new members of a role see: now, 12h, 7d … [default: 7d]" }),
            ("strictAddresses", new("--strict-addresses")
                { Description = "Refuse sends to unknown addresses: true or false. [default: false]" }),
            ("heartbeatSeconds", new("--heartbeat-seconds") { Description = "Seconds between heartbeats. [default: 20]" }),
            ("ackTimeoutSeconds", new("--ack-timeout-seconds")
                { Description = "Seconds until the service requests an acknowledgement. [default: 10]" }),
            ("comeBackWithinMs", new("--come-back-within-ms")
                { Description = "Milliseconds over which sessions reconnect after a stop. [default: 3000]" }),
            ("intakes", new("--intakes") { Description = "File of intakes: outboxes, brokers, lines and schedules to take events from." }),
            ("metrics", new("--metrics")
                { Description = "Port, or address:port, where metrics are read as Prometheus text; off: nowhere. [default: 127.0.0.1, " +
                    "port + 2]" }),
            ("otlp", new("--otlp") { Description = "OpenTelemetry collector to push metrics and traces to: http://localhost:4318" }),
            ("log", new("--log") { Description = "Log level: verbose, information, warning or error. [default: information]" }),
            ("logFormat", new("--log-format") { Description = "Log format: text, or json, a line for each message. [default: text]" }),
            ("logFile", new("--log-file") { Description = "Write the log to this file, a new one each day, and keep 14. [default: " +
                "standard error]" }),
        };
        var command = new Command("serve", """
            Start the service.

            Settings come from --config, then the environment (ROVETT_PORT …), then flags; later ones win. SIGHUP has a service that runs
            in the background read the file again.

            Example:
              rovett serve --data ./data --port 7411
            """) { config, consoleLink };
        foreach (var (_, option) in settings) command.Options.Add(option);
        command.SetAction(async (parsed, cancel) =>
        {
            var flags = settings.Select(s => (s.Name, Value: parsed.GetValue(s.Option))).Where(s => s.Value is not null)
                .ToDictionary(s => s.Name, s => s.Value!);
            (RovettOptions Options, List<string> Wrong) Again() => Read(parsed.GetValue(config), flags, out _);
            var (options, wrong) = Again();
            if (wrong.Count > 0)
            {
                foreach (var mistake in wrong) Output.Error(mistake);
                Output.Hint($"Not started. Fix {(wrong.Count == 1 ? "this" : $"these {wrong.Count}")} and start again.");
                return 2;
            }
            return await Run(options, parsed.GetValue(consoleLink), Again, cancel);
        });
        return command;
    }

    /// <summary>Reads the settings, and the file of intakes that they name.</summary>
    /// <param name="file">Their file; null: none.</param>
    /// <param name="flags">Those of the command line.</param>
    /// <param name="origins">Where each of them comes from.</param>
    /// <returns>The settings and everything wrong.</returns>
    internal static (RovettOptions Options, List<string> Wrong) Read(string? file, IReadOnlyDictionary<string, string> flags,
        out IReadOnlyDictionary<string, string> origins)
    {
        var options = OptionsReader.Read(file, Variables(), flags, out var mistakes, out origins);
        List<string> wrong = [.. mistakes.Select(m => m.ToString())];
        if (options.Intakes is { } intakes) wrong.AddRange(IntakeFile.Load(intakes).Mistakes);
        return (options, wrong);
    }

    /// <summary>The settings in the environment.</summary>
    internal static Dictionary<string, string> Variables() =>
        Environment.GetEnvironmentVariables().Cast<DictionaryEntry>()
        .Where(e => ((string)e.Key).StartsWith("ROVETT_", StringComparison.Ordinal))
        .ToDictionary(e => (string)e.Key, e => (string?)e.Value ?? "");

    static async Task<int> Run(RovettOptions options, bool consoleLink, Func<(RovettOptions Options, List<string> Wrong)> read,
        CancellationToken cancel)
    {
        try
        {
            await using var service = RovettService.Create(options);
            // On a terminal the signal says that the terminal is gone, and the service ends as ever.
            using var again = Console.IsInputRedirected ? PosixSignalRegistration.Create(PosixSignal.SIGHUP, signal =>
            {
                signal.Cancel = true;
                try
                {
                    var (others, wrong) = read();
                    if (wrong.Count > 0) service.Refuse(wrong);
                    else service.TakeUp(others);
                }
                catch (Exception bug)
                {
                    service.Refuse([$"{bug}"]); // on this thread it would end the process
                }
            }) : null;
            await service.Start(() => Announce(service, options, consoleLink ? service.NewConsoleLink() : service.ConsoleLink));
            var stop = service.WaitForStop();
            await Task.WhenAny(stop, Task.Delay(Timeout.Infinite, cancel));
            Output.Hint("Shutting down: notifying sessions, writing pending data …");
            return service.Failure is null ? 0 : 1;
        }
        catch (StoreException broken)
        {
            Output.Error(broken.Message);
            return 1;
        }
        catch (IOException error) when (error.InnerException is Microsoft.AspNetCore.Connections.AddressInUseException)
        {
            if (options.MetricsEndPoint is { Port: > 0 } metrics && error.Message.Contains($":{metrics.Port}", StringComparison.Ordinal))
            {
                Output.Error($"Port {metrics.Port} of {metrics.Address}, where metrics are to be read, is in use.");
                Output.Hint("Choose another with --metrics, or 'off'.");
                return 1;
            }
            Output.Error(options.NodeUrl is null ? $"Port {options.Port} of {options.Address} is in use."
                : $"Port {options.Port} of {options.Address}, or the port of {options.NodeUrl}, is in use.");
            Output.Hint("Is another Rovett running? Choose another port with --port, or 0 for a free one.");
            return 1;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or SocketException)
        {
            Output.Error(error.Message);
            return 1;
        }
    }

    static void Announce(RovettService service, RovettOptions options, string? link)
    {
        var o = AnsiConsole.Console;
        static void Say(string line = "") => Console.Out.WriteLine(line); // lines to copy: never wrapped by us
        o.MarkupLineInterpolated($"[bold green]Rovett is running[/] at [bold]{service.Url}[/]  (data in {service.Store})");
        if (options.NodeUrl is { } node) Say($"Other nodes reach it at {node}");
        Say();
        Say($"  API       {service.Url}/v1");
        Say($"  Live      {service.Url}/v1/live   (WebSocket, server-sent events, long poll)");
        Say($"  Reference {service.Url}/reference");
        Say($"  Console   {service.Url}/console");
        if (service.MetricsUrl is { } metrics) Say($"  Metrics   {metrics}");
        if (options.CredentialsFile is { } kept)
        {
            // What is printed may be kept in a journal.
            if (service.Credentials.Count > 0) Say($"  The credentials of the first start are in {kept}");
            Say();
            return;
        }
        if (link is not null) Say($"            sign up once within 15 minutes: {service.Url}/console#sign-up={link}");
        foreach (var made in service.Credentials)
        {
            Say();
            o.MarkupLineInterpolated($"[bold]Credentials for space {made.Space} (shown only once):[/]");
            Say($"  export ROVETT_KEY={made.AdminKey}");
            Say($"  export ROVETT_TOKEN_SECRET={made.TokenSigningSecret}");
        }
        if (service.Credentials.Count > 0)
        {
            Say();
            o.MarkupLine("[bold]Next,[/] in another terminal, after the two exports:");
            if (options.Port != 7411) Say($"  export ROVETT_URL={service.Url}");
            Say($"  {Output.Program} send --to user:mara --type engine.check.due --title \"Turnstone: bow thruster check due\"");
            Say($"  {Output.Program} receive --user mara --role engineer");
        }
        Say();
        o.MarkupLine("[grey]Stop with Ctrl-C.[/]");
    }
}
