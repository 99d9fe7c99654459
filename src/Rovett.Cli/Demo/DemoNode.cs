using System.Diagnostics;
using System.Text.Json.Nodes;

namespace Rovett.Cli.Demo;

/// <summary>A node of the demo: the service as a process of its own, configured by three environment variables.</summary>
sealed class DemoNode : IDisposable
{
    readonly Process process;

    DemoNode(Process process, JsonNode ready, string url) => (this.process, Ready, NodeUrl) = (process, ready, url);

    /// <summary>What its ready file says.</summary>
    public JsonNode Ready { get; }

    /// <summary>Where the other nodes reach it.</summary>
    public string NodeUrl { get; }

    /// <summary>Where clients reach it.</summary>
    public Uri Url => new((string)Ready["url"]!);

    /// <summary>Starts one.</summary>
    /// <param name="folder">Where its files are.</param>
    /// <param name="port">Where clients reach it.</param>
    /// <param name="nodeUrl">Where the other nodes reach it.</param>
    /// <param name="database">The database that all share.</param>
    /// <param name="secretFile">The secret that all share.</param>
    /// <param name="origins">Pages that may connect.</param>
    public static async Task<DemoNode> Start(DirectoryInfo folder, int port, string nodeUrl, string database, string secretFile,
        string origins)
    {
        var ready = Path.Combine(folder.FullName, $"ready-{Guid.NewGuid():N}.json");
        var info = new ProcessStartInfo("dotnet", [typeof(DemoNode).Assembly.Location, "serve", "--port", $"{port}", "--data",
            Path.Combine(folder.FullName, $"{port}"), "--ready-file", ready, "--origins", origins, "--log", "warning",
            "--heartbeat-seconds", "2"]) // so that devices on a node that is paused notice soon
        { RedirectStandardOutput = true, RedirectStandardError = true };
        info.Environment["ROVETT_DATABASE"] = database;
        info.Environment["ROVETT_NODE_URL"] = nodeUrl;
        info.Environment["ROVETT_CLUSTER_SECRET_FILE"] = secretFile;
        var process = Process.Start(info)!;
        var log = Path.Combine(folder.FullName, $"{port}.log");
        process.OutputDataReceived += static (_, _) => { }; // read, so that it never waits to be
        process.ErrorDataReceived += (_, line) => File.AppendAllText(log, line.Data + "\n");
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        for (int i = 0; !File.Exists(ready) && !process.HasExited && i < 1500; i++) await Task.Delay(20);
        if (!File.Exists(ready)) throw new IOException($"The node {nodeUrl} did not start: {await File.ReadAllTextAsync(log)}");
        return new DemoNode(process, JsonNode.Parse(await File.ReadAllTextAsync(ready))!, nodeUrl);
    }

    /// <summary>Sends it a signal.</summary>
    public async Task Signal(string name)
    {
        using var kill = Process.Start("kill", [$"-{name}", $"{process.Id}"]);
        await kill.WaitForExitAsync();
    }

    /// <summary>Ends it as a crash would.</summary>
    public async Task Kill()
    {
        process.Kill();
        await process.WaitForExitAsync();
    }

    public void Dispose()
    {
        if (!process.HasExited) process.Kill();
        process.Dispose();
    }
}
