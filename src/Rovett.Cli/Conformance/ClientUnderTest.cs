using System.Diagnostics;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace Rovett.Cli.Conformance;

/// <summary>A program that uses the client under test: it prints a line of JSON for each thing that an application
/// sees, and does what it reads.</summary>
sealed class ClientUnderTest : IDisposable
{
    readonly Process process;
    readonly Lock gate = new();
    readonly List<JsonObject> seen = [];
    readonly List<string> said = []; // what is no JSON: for those who look for the fault

    public ClientUnderTest(string command, Uri service)
    {
        process = new Process
        {
            StartInfo = new ProcessStartInfo("/bin/sh", ["-c", "exec " + command])
            { RedirectStandardInput = true, RedirectStandardOutput = true, RedirectStandardError = true }
        };
        process.StartInfo.Environment["ROVETT_URL"] = service.ToString().TrimEnd('/');
        process.OutputDataReceived += (_, line) => Take(line.Data);
        process.ErrorDataReceived += (_, line) => Take(line.Data);
        process.Start();
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
    }

    public bool HasExited => process.HasExited;

    /// <summary>Its output other than events.</summary>
    public string Said
    {
        get { lock (gate) return string.Join('\n', said.TakeLast(20)); }
    }

    void Take(string? line)
    {
        if (string.IsNullOrEmpty(line)) return;
        lock (gate)
        {
            try
            {
                seen.Add(JsonNode.Parse(line)!.AsObject());
            }
            catch (Exception error) when (error is JsonException or InvalidOperationException)
            {
                said.Add(line);
            }
        }
    }

    /// <summary>Its events, from one on.</summary>
    public List<JsonObject> SeenFrom(int number)
    {
        lock (gate) return seen[number..];
    }

    public void Do(JsonNode act) => process.StandardInput.WriteLine(act.ToJsonString());

    public void Dispose()
    {
        if (!process.HasExited) process.Kill(entireProcessTree: true);
        process.Dispose();
    }
}
