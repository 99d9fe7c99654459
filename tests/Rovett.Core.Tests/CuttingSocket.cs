using System.Net.Sockets;

namespace Rovett.Core.Tests;

/// <summary>Stands between a database server and its client on a socket of its own, and can cut the line at any byte of what the client
/// says next, or of what it is answered.</summary>
public sealed class CuttingSocket : IDisposable
{
    public enum Cut
    {
        Never,
        /// <summary>The server gets only so many bytes of it.</summary>
        Asked,
        /// <summary>The client is cut off at once; the server gets the rest only when it is let through.</summary>
        AskedLate,
        /// <summary>The client gets only so many bytes of the answer.</summary>
        Answered,
    }

    readonly DirectoryInfo folder = Directory.CreateTempSubdirectory("rovett-cut-");
    readonly Socket listener = new(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
    readonly string server;
    TaskCompletionSource late = new();
    Task lateRead = Task.CompletedTask;
    Cut next;
    int bytes;

    public CuttingSocket(string serverFolder, int port)
    {
        var name = $".s.PGSQL.{port}";
        server = Path.Combine(serverFolder, name);
        listener.Bind(new UnixDomainSocketEndPoint(Path.Combine(folder.FullName, name)));
        listener.Listen();
        _ = Accept();
    }

    public string Host => folder.FullName;

    /// <summary>How many bytes were asked and answered since the last cut was planned.</summary>
    public int Asked { get; private set; }

    public int Answered { get; private set; }

    /// <summary>New lines are cut at once.</summary>
    public bool RefusesNew { get; set; }

    /// <summary>Whether the cut is still to come.</summary>
    public bool IsPlanned => next != Cut.Never;

    /// <summary>Cuts the line once, after so many more bytes.</summary>
    public void Plan(Cut cut, int after)
    {
        (Asked, Answered, bytes) = (0, 0, after);
        late = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        next = cut;
    }

    /// <summary>The server gets what was held back, and answers nobody.</summary>
    public Task LetThrough()
    {
        late.TrySetResult();
        return lateRead;
    }

    async Task Accept()
    {
        while (true)
        {
            Socket client;
            try
            {
                client = await listener.AcceptAsync();
            }
            catch (SocketException)
            {
                return;
            }
            if (RefusesNew)
            {
                client.Dispose();
                continue;
            }
            var behind = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
            await behind.ConnectAsync(new UnixDomainSocketEndPoint(server));
            var line = new Line(this, client, behind);
            _ = line.Forth();
            _ = line.Back();
        }
    }

    sealed class Line(CuttingSocket owner, Socket client, Socket server)
    {
        volatile bool isLate;

        public async Task Forth()
        {
            var buffer = new byte[256 * 1024];
            while (await Read(client, buffer) is > 0 and int length)
            {
                if (owner.next is Cut.Asked or Cut.AskedLate && owner.Asked + length >= owner.bytes)
                {
                    int some = owner.bytes - owner.Asked;
                    bool isLater = owner.next == Cut.AskedLate;
                    if (some > 0) await server.SendAsync(buffer.AsMemory(0, some));
                    if (isLater)
                    {
                        isLate = true;
                        owner.lateRead = Late(buffer.AsMemory(some, length - some).ToArray());
                    }
                    break;
                }
                owner.Asked += length;
                await server.SendAsync(buffer.AsMemory(0, length));
            }
            End();
        }

        async Task Late(byte[] rest)
        {
            await owner.late.Task;
            await server.SendAsync(rest);
            server.Shutdown(SocketShutdown.Send);
            var buffer = new byte[64 * 1024];
            while (await Read(server, buffer) > 0)
            {
            }
            server.Dispose();
        }

        public async Task Back()
        {
            var buffer = new byte[256 * 1024];
            while (await Read(server, buffer) is > 0 and int length)
            {
                if (isLate) return;
                if (owner.next == Cut.Answered && owner.Answered + length >= owner.bytes)
                {
                    int some = owner.bytes - owner.Answered;
                    if (some > 0) await client.SendAsync(buffer.AsMemory(0, some));
                    break;
                }
                owner.Answered += length;
                await client.SendAsync(buffer.AsMemory(0, length));
            }
            if (!isLate) End();
        }

        static async Task<int> Read(Socket socket, byte[] buffer)
        {
            try
            {
                return await socket.ReceiveAsync(buffer);
            }
            catch (Exception gone) when (gone is SocketException or ObjectDisposedException)
            {
                return 0;
            }
        }

        void End()
        {
            owner.next = Cut.Never;
            client.Dispose();
            if (!isLate) server.Dispose();
        }
    }

    public void Dispose()
    {
        late.TrySetResult();
        listener.Dispose();
        folder.Delete(recursive: true);
    }
}
