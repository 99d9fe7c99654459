using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text.Json.Nodes;

namespace Rovett.Testing;

/// <summary>A program's result.</summary>
public sealed record Run(int ExitCode, string Out, string Error);

/// <summary>The service, and the command line, as processes of their own: what `make build` made.</summary>
public sealed class ServiceProcess : IDisposable
{
    readonly Process process;

    readonly ConcurrentQueue<string> output;

    ServiceProcess(Process process, ConcurrentQueue<string> output, JsonNode ready, Uri url)
    {
        this.process = process;
        this.output = output;
        Ready = ready;
        Url = url;
    }

    /// <summary>What the ready file says.</summary>
    public JsonNode Ready { get; }
    public Uri Url { get; }
    public int Id => process.Id;

    /// <summary>The processor time that it has used so far.</summary>
    public TimeSpan Cpu
    {
        get
        {
            process.Refresh();
            return process.TotalProcessorTime;
        }
    }

    /// <summary>Its standard input.</summary>
    public StreamWriter Input => process.StandardInput;

    /// <summary>All that it has printed so far.</summary>
    public string Printed => string.Join('\n', output);

    /// <summary>The root of the repository.</summary>
    public static string Root { get; } = FindRoot();

    static string FindRoot()
    {
        var folder = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(folder, "Rovett.slnx")))
        {
            folder = Path.GetDirectoryName(folder) ?? throw new InvalidOperationException("Not inside the repository.");
        }
        return folder;
    }

    static ProcessStartInfo Info(IEnumerable<string> args, IReadOnlyDictionary<string, string>? environment, string? build = null)
    {
        var info = new ProcessStartInfo("dotnet")
        { RedirectStandardOutput = true, RedirectStandardError = true, RedirectStandardInput = true };
        info.ArgumentList.Add(Path.Combine(build ?? Path.Combine(Root, ".build", "cli"), "rovett.dll"));
        foreach (var arg in args) info.ArgumentList.Add(arg);
        foreach (var name in info.Environment.Keys.Where(k => k.StartsWith("ROVETT_", StringComparison.Ordinal)).ToList())
        {
            info.Environment.Remove(name);
        }
        foreach (var (name, value) in environment ?? new Dictionary<string, string>()) info.Environment[name] = value;
        return info;
    }

    /// <summary>Starts `rovett <paramref name="command"/>` and waits for its ready file.</summary>
    /// <param name="folder">Where its files go.</param>
    /// <param name="more">More options.</param>
    /// <param name="environment">Variables of its environment.</param>
    /// <param name="command">The command.</param>
    /// <param name="log">What it logs.</param>
    /// <param name="network">A network namespace that it runs in; null: the machine's.</param>
    /// <param name="build">Where another build of the command line lies; null: the one of this tree.</param>
    public static async Task<ServiceProcess> Start(string folder, string[]? more = null,
        IReadOnlyDictionary<string, string>? environment = null, string command = "serve", string log = "warning", string? network = null,
        string? build = null)
    {
        var file = Path.Combine(folder, $"ready-{Guid.NewGuid():N}.json");
        string[] data = command == "serve" ? ["--data", Path.Combine(folder, "data"), "--log", log] : [];
        var info = Info([command, "--port", "0", "--ready-file", file, .. data, .. more ?? []], environment, build);
        if (network is not null)
        {
            string[] inside = ["netns", "exec", network, info.FileName];
            for (int i = 0; i < inside.Length; i++) info.ArgumentList.Insert(i, inside[i]);
            info.FileName = "ip";
        }
        var process = Process.Start(info)!;
        var output = new ConcurrentQueue<string>();
        process.OutputDataReceived += (_, e) => output.Enqueue(e.Data ?? "");
        process.ErrorDataReceived += (_, e) => output.Enqueue(e.Data ?? "");
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        await Eventually.Holds(() => File.Exists(file) || process.HasExited, "the service is ready", 60);
        if (!File.Exists(file))
        {
            throw new InvalidOperationException($"The service ended with {process.ExitCode}: {string.Join('\n', output)}");
        }
        var ready = JsonNode.Parse(await File.ReadAllTextAsync(file))!;
        return new ServiceProcess(process, output, ready, new Uri((string?)ready["url"] ?? (string)ready["service"]!));
    }

    /// <summary>Runs the command line to its end.</summary>
    public static async Task<Run> Cli(string[] args, IReadOnlyDictionary<string, string>? environment = null, string? input = null,
        int seconds = 60)
    {
        using var process = Process.Start(Info(args, environment))!;
        var output = process.StandardOutput.ReadToEndAsync();
        var error = process.StandardError.ReadToEndAsync();
        if (input is not null) await process.StandardInput.WriteAsync(input);
        process.StandardInput.Close();
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(seconds));
        await process.WaitForExitAsync(limit.Token);
        return new Run(process.ExitCode, await output, await error);
    }

    /// <summary>kill -9.</summary>
    public async Task Kill()
    {
        process.Kill();
        await process.WaitForExitAsync();
    }

    /// <summary>Has the kernel pause it (SIGSTOP), or go on (SIGCONT).</summary>
    public void Pause(bool isPaused) => Pause([process.Id.ToString()], isPaused);

    /// <summary>The same for any processes.</summary>
    public static void Pause(IEnumerable<string> processes, bool isPaused)
    {
        using var kill = Process.Start("kill", [isPaused ? "-STOP" : "-CONT", .. processes]);
        kill.WaitForExit();
    }

    /// <summary>SIGTERM; answers the exit code.</summary>
    public async Task<int> Terminate()
    {
        using (var kill = Process.Start("kill", ["-TERM", process.Id.ToString()])) await kill.WaitForExitAsync();
        return await End();
    }

    /// <summary>Waits until it has ended, by itself or because it was told to; answers the exit code.</summary>
    public async Task<int> End()
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        await process.WaitForExitAsync(limit.Token);
        return process.ExitCode;
    }

    /// <summary>Ends it, and fails the test if it logged a bug: no test provokes one in a process.</summary>
    public void Dispose()
    {
        if (!process.HasExited) process.Kill();
        process.Dispose();
        if (output.Any(line => line.Contains(" EROR Bug in "))) throw new InvalidOperationException("A bug was logged:\n" + Printed);
    }
}
