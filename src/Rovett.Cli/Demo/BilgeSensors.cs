using System.Net;
using System.Net.Sockets;
using System.Text;

namespace Rovett.Cli.Demo;

/// <summary>The bilge sensors of the ferries: each sends a line over UDP every few seconds, and most lines are calm.</summary>
sealed class BilgeSensors : IDisposable
{
    static readonly string[] Vessels = ["kittiwake", "sandpiper", "turnstone"];
    readonly UdpClient socket = new(AddressFamily.InterNetwork);

    /// <summary>The port on loopback that they send to.</summary>
    public int Port { get; } = FreePort();

    /// <summary>Sends one line.</summary>
    /// <param name="vessel">The vessel's id.</param>
    /// <param name="level">The level in cm.</param>
    public async Task Send(string vessel, int level) =>
        await socket.SendAsync(Encoding.UTF8.GetBytes($"{vessel} bilge {level}\n"), new IPEndPoint(IPAddress.Loopback, Port));

    /// <summary>Sends lines until it is cancelled.</summary>
    /// <param name="every">The time between two lines.</param>
    /// <param name="cancel">Ends it.</param>
    public async Task GoOn(TimeSpan every, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(every);
        try
        {
            for (int i = 0; await timer.WaitForNextTickAsync(cancel); i++)
            {
                int level = i % 40 == 39 ? Random.Shared.Next(62, 90) : Random.Shared.Next(12, 45);
                await Send(Vessels[i % Vessels.Length], level);
            }
        }
        catch (OperationCanceledException)
        {
        }
    }

    static int FreePort()
    {
        using var probe = new UdpClient(new IPEndPoint(IPAddress.Loopback, 0));
        return ((IPEndPoint)probe.Client.LocalEndPoint!).Port;
    }

    public void Dispose() => socket.Dispose();
}
