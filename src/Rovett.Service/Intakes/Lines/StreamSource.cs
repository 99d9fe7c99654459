using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;

namespace Rovett.Service.Intakes.Lines;

/// <summary>Takes connections, each of which sends lines and is answered.</summary>
sealed class StreamSource(Inlet inlet, LineSettings lines, int most, bool needsKey, IReadOnlyList<IPNetwork> allowed, Func<Socket> bind)
    : IIntakeSource
{
    const int Waiting = 128;

    readonly ConcurrentDictionary<LineConnection, Task> open = new();
    readonly LineRate rate = new(lines.PerSecond, inlet.Clock);
    Socket? listener;

    public async Task Run(CancellationToken drain)
    {
        listener = bind();
        listener.Listen(Waiting);
        inlet.Progress.Is(IntakeState.Running);
        while (!drain.IsCancellationRequested)
        {
            var socket = await Accept(drain);
            if (socket is null) break;
            if (open.Count >= most || !IsAllowed(socket))
            {
                inlet.Log.LogWarning("The intake {Intake} refused a connection from {Address}: {Reason}", inlet.Settings.Name,
                    socket.RemoteEndPoint,
                    open.Count >= most ? "there are as many as may be (connections)" : "not from its networks (from)");
                socket.Dispose();
                continue;
            }
            var connection = new LineConnection(socket, inlet, lines, rate, needsKey);
            var serving = open[connection] = Serve(connection, drain);
            if (serving.IsCompleted) open.TryRemove(connection, out _); // it was over before it was noted
        }
        await Task.WhenAll(open.Values);
    }

    bool IsAllowed(Socket socket) => socket.RemoteEndPoint is not IPEndPoint at || LineSettings.Allows(allowed, at.Address);

    async Task<Socket?> Accept(CancellationToken drain)
    {
        try
        {
            return await listener!.AcceptAsync(drain);
        }
        catch (OperationCanceledException)
        {
            return null;
        }
    }

    async Task Serve(LineConnection connection, CancellationToken drain)
    {
        await Task.Yield();
        try
        {
            await connection.Serve(drain);
        }
        finally
        {
            open.TryRemove(connection, out _);
            connection.Dispose();
        }
    }

    public Task<IReadOnlyList<string>> Test(CancellationToken stop) => Task.FromResult<IReadOnlyList<string>>(
    [
        $"it listens on {inlet.Settings.Kind.From}",
        needsKey ? "a connection sends an API key with the scope send first" : "who may open the file may send",
    ]);

    public bool IsFailure(Exception error) => error is SocketException or IOException or UnauthorizedAccessException;

    public async ValueTask DisposeAsync()
    {
        listener?.Dispose();
        foreach (var connection in open.Keys) connection.Dispose();
        await Task.WhenAll(open.Values);
    }
}
