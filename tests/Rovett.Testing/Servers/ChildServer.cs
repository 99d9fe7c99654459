using System.Diagnostics;

namespace Rovett.Testing.Servers;

/// <summary>A server of its own for a test, as a process in a folder of its own, on a spare port.</summary>
public abstract class ChildServer : IDisposable
{
    Process? process;

    /// <summary>Where it keeps what it has.</summary>
    public string Folder { get; } = Directory.CreateTempSubdirectory("rovett-server-").FullName;

    /// <summary>The port on loopback that it listens on.</summary>
    public int Port { get; } = FreePort.Next();

    /// <summary>The program, with its arguments and environment.</summary>
    protected abstract ProcessStartInfo Program();

    /// <summary>Whether it takes work.</summary>
    protected abstract Task<bool> IsReady();

    /// <summary>Starts it, on what it has, and waits until it takes work.</summary>
    public async Task Start()
    {
        var info = Program();
        info.WorkingDirectory = Folder;
        info.RedirectStandardOutput = info.RedirectStandardError = true;
        process = Process.Start(info)!;
        process.OutputDataReceived += (_, _) => { };
        process.ErrorDataReceived += (_, _) => { };
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        await Eventually.Holds(IsReady, r => r || process.HasExited, $"{info.FileName} is ready", 90);
        if (process.HasExited) throw new InvalidOperationException($"{info.FileName} ended with {process.ExitCode}; see {Folder}");
    }

    /// <summary>kill -9, with everything that it started.</summary>
    public async Task Kill()
    {
        process!.Kill(entireProcessTree: true);
        await process.WaitForExitAsync();
    }

    /// <summary>The number of the process that stops in order when it is told to end.</summary>
    protected virtual int Number => process!.Id;

    /// <summary>Stops it in order.</summary>
    public async Task Stop()
    {
        using (var kill = Process.Start("kill", ["-TERM", $"{Number}"])) await kill.WaitForExitAsync();
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        await process!.WaitForExitAsync(limit.Token);
    }

    /// <summary>Ends what it left running.</summary>
    protected virtual void Ended() { }

    public void Dispose()
    {
        if (process is { HasExited: false }) process.Kill(entireProcessTree: true);
        process?.WaitForExit();
        process?.Dispose();
        Ended();
        Directory.Delete(Folder, recursive: true);
    }
}
