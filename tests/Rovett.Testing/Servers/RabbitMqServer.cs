using System.Diagnostics;
using System.Globalization;
using RabbitMQ.Client;
using RabbitMQ.Client.Exceptions;

namespace Rovett.Testing.Servers;

/// <summary>A RabbitMQ broker.</summary>
public sealed class RabbitMqServer : ChildServer
{
    readonly int between = FreePort.Next(), mapper = FreePort.Next();

    /// <summary>A factory of connections to it.</summary>
    public ConnectionFactory Factory => new()
    { HostName = "127.0.0.1", Port = Port, AutomaticRecoveryEnabled = false, RequestedConnectionTimeout = TimeSpan.FromSeconds(3) };

    protected override ProcessStartInfo Program()
    {
        File.WriteAllText(Path.Combine(Folder, "plugins"), "[].");
        return new ProcessStartInfo("/usr/lib/rabbitmq/bin/rabbitmq-server")
        {
            Environment =
            {
                ["HOME"] = Folder, // where the cookie of the node lies
                ["RABBITMQ_NODENAME"] = $"rovett{Port}@localhost",
                ["RABBITMQ_NODE_IP_ADDRESS"] = "127.0.0.1",
                ["RABBITMQ_NODE_PORT"] = $"{Port}",
                ["RABBITMQ_DIST_PORT"] = $"{between}",
                ["ERL_EPMD_PORT"] = $"{mapper}",
                ["ERL_EPMD_ADDRESS"] = "127.0.0.1",
                ["RABBITMQ_MNESIA_BASE"] = Path.Combine(Folder, "data"),
                ["RABBITMQ_LOG_BASE"] = Path.Combine(Folder, "log"),
                ["RABBITMQ_ENABLED_PLUGINS_FILE"] = Path.Combine(Folder, "plugins"),
                ["RABBITMQ_CONFIG_FILE"] = Path.Combine(Folder, "none"),
                ["RABBITMQ_PID_FILE"] = Path.Combine(Folder, "pid"),
            },
        };
    }

    // The broker itself and not the script that started it.
    protected override int Number => int.Parse(File.ReadAllText(Path.Combine(Folder, "pid")), CultureInfo.InvariantCulture);

    protected override void Ended()
    {
        // The broker starts it, and it outlives the broker.
        using var end = Process.Start(new ProcessStartInfo("epmd", ["-port", $"{mapper}", "-kill"]) { RedirectStandardOutput = true })!;
        end.StandardOutput.ReadToEnd();
        end.WaitForExit();
    }

    protected override async Task<bool> IsReady()
    {
        try
        {
            await using var connection = await Factory.CreateConnectionAsync();
            return true;
        }
        catch (Exception error) when (error is RabbitMQClientException or IOException or OperationCanceledException)
        {
            await Task.Delay(100);
            return false;
        }
    }
}
