using System.Net.Sockets;

namespace Rovett.Core.Tests;

/// <summary>Stands between a database server and its client on a socket of its own, and can cut the line at a commit: before
/// the server has it, or after the server has carried it out and before its answer arrives.</summary>
public sealed class CuttingSocket : IDisposable
{
    public enum Cut { Never, BeforeCommit, AfterCommit }

    readonly DirectoryInfo folder = Directory.CreateTempSubdirectory("rovett-cut-");
    readonly Socket listener = new(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
    readonly string server;

    public CuttingSocket(string serverFolder, int port)
    {
        var name = $".s.PGSQL.{port}";
        server = Path.Combine(serverFolder, name);
        listener.Bind(new UnixDomainSocketEndPoint(Path.Combine(folder.FullName, name)));
        listener.Listen();
        _ = Accept();
    }

    public string Host => folder.FullName;

    /// <summary>What becomes of the next commit; then never again.</summary>
    public Cut Next { get; set; }

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
            var behind = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
            await behind.ConnectAsync(new UnixDomainSocketEndPoint(server));
            var line = new Line(this, client, behind);
            _ = line.Forth();
            _ = line.Back();
        }
    }

    sealed class Line(CuttingSocket owner, Socket client, Socket server)
    {
        volatile bool atAnswer;

        public async Task Forth()
        {
            var buffer = new byte[256 * 1024];
            while (await Read(client, buffer) is > 0 and int length)
            {
                if (owner.Next != Cut.Never && buffer.AsSpan(0, length).IndexOf("+everyone"u8) >= 0)
                {
                    if (owner.Next == Cut.BeforeCommit) break;
                    atAnswer = true;
                }
                await server.SendAsync(buffer.AsMemory(0, length));
            }
            End();
        }

        public async Task Back()
        {
            var buffer = new byte[256 * 1024];
            while (await Read(server, buffer) is > 0 and int length)
            {
                if (atAnswer) break; // it is carried out: here is the answer
                await client.SendAsync(buffer.AsMemory(0, length));
            }
            End();
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
            owner.Next = Cut.Never;
            client.Dispose();
            server.Dispose();
        }
    }

    public void Dispose()
    {
        listener.Dispose();
        folder.Delete(recursive: true);
    }
}
