using System.ComponentModel;
using System.Diagnostics;
using System.Net.Sockets;

namespace Rovett.Cli.Demo;

/// <summary>A Caddy in front of the demo's nodes: it sends each request to one of them, and none to one that is not ready.</summary>
sealed class DemoFront : IDisposable
{
    readonly Process process;

    DemoFront(Process process, Uri url) => (this.process, Url) = (process, url);

    /// <summary>Where clients reach it.</summary>
    public Uri Url { get; }

    /// <summary>Starts it.</summary>
    /// <returns>Null: Caddy is not installed here.</returns>
    public static async Task<DemoFront?> Start(DirectoryInfo folder, int port, IEnumerable<int> nodes)
    {
        if (port == 0) port = DemoDatabase.FreePort();
        var file = Path.Combine(folder.FullName, "Caddyfile");
        await File.WriteAllTextAsync(file, $$"""
            {
                admin off
                auto_https off
            }
            http://127.0.0.1:{{port}} {
                reverse_proxy {{string.Join(' ', nodes.Select(n => $"127.0.0.1:{n}"))}} {
                    lb_policy round_robin
                    lb_try_duration 5s
                    lb_try_interval 100ms
                    health_uri /readyz
                    health_interval 500ms
                    health_timeout 1s
                    flush_interval -1
                }
            }
            """);
        Process process;
        try
        {
            var info = new ProcessStartInfo("caddy", ["run", "--config", file, "--adapter", "caddyfile"])
            { RedirectStandardOutput = true, RedirectStandardError = true };
            info.Environment["HOME"] = info.Environment["XDG_DATA_HOME"] = info.Environment["XDG_CONFIG_HOME"] = folder.FullName;
            process = Process.Start(info)!;
        }
        catch (Win32Exception)
        {
            return null;
        }
        process.OutputDataReceived += static (_, _) => { };
        process.ErrorDataReceived += static (_, _) => { };
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        for (int i = 0; i < 500 && !process.HasExited; i++)
        {
            using var probe = new Socket(SocketType.Stream, ProtocolType.Tcp);
            try
            {
                await probe.ConnectAsync("127.0.0.1", port);
                return new DemoFront(process, new Uri($"http://127.0.0.1:{port}"));
            }
            catch (SocketException)
            {
                await Task.Delay(20);
            }
        }
        throw new IOException($"Caddy does not listen at port {port}.");
    }

    public void Dispose()
    {
        if (!process.HasExited) process.Kill();
        process.Dispose();
    }
}
