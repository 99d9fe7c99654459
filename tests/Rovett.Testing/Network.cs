using System.Diagnostics;

namespace Rovett.Testing;

/// <summary>The networks of this machine.</summary>
public static class Network
{
    /// <summary>Runs <c>ip</c> with arguments.</summary>
    public static async Task Ip(string arguments)
    {
        using var run = Process.Start(new ProcessStartInfo("/bin/sh", ["-c", "ip " + arguments]) { RedirectStandardError = true })!;
        var error = await run.StandardError.ReadToEndAsync();
        await run.WaitForExitAsync();
        if (run.ExitCode != 0) throw new InvalidOperationException($"ip {arguments}: {error}");
    }
}
