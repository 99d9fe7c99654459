using System.Buffers.Binary;
using System.Net;
using System.Net.Sockets;
using System.Text;
using System.Text.Json.Nodes;

namespace Rovett.Testing;

/// <summary>A connection by raw socket: what goes over the wire is written out by hand.</summary>
public abstract class RawConnection : IDisposable
{
    static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);
    readonly Socket socket;
    byte[] buffer = new byte[16384];
    int start, end;

    private protected RawConnection(Socket socket) => this.socket = socket;

    /// <summary>Every byte that ever came, for canaries.</summary>
    public MemoryStream? Recording { get; set; }

    /// <summary>The response's status and headers.</summary>
    public string Head { get; private protected set; } = "";

    public int Status => int.Parse(Head.AsSpan(9, 3));

    private protected static async Task<Socket> Open(int port, string? from = null)
    {
        var socket = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        if (from is not null) socket.Bind(new IPEndPoint(IPAddress.Parse(from), 0));
        await socket.ConnectAsync(IPAddress.Loopback, port);
        return socket;
    }

    public async Task Write(ReadOnlyMemory<byte> bytes)
    {
        while (bytes.Length > 0) bytes = bytes[await socket.SendAsync(bytes)..];
    }

    public Task Write(string text) => Write(Encoding.UTF8.GetBytes(text));

    /// <summary>False when the other side has closed.</summary>
    private protected async Task<bool> Fill()
    {
        if (start > 0)
        {
            buffer.AsSpan(start, end - start).CopyTo(buffer);
            (start, end) = (0, end - start);
        }
        if (end == buffer.Length) Array.Resize(ref buffer, buffer.Length * 2);
        using var limit = new CancellationTokenSource(Patience);
        int count;
        try
        {
            count = await socket.ReceiveAsync(buffer.AsMemory(end), limit.Token);
        }
        catch (Exception gone) when (gone is SocketException or ObjectDisposedException)
        {
            return false;
        }
        catch (OperationCanceledException)
        {
            throw new TimeoutException(
                $"Nothing came for {Patience.TotalSeconds} s; so far: {Encoding.UTF8.GetString(buffer, start, end - start)}");
        }
        Recording?.Write(buffer, end, count);
        end += count;
        return count > 0;
    }

    private protected ReadOnlySpan<byte> Buffered => buffer.AsSpan(start, end - start);

    private protected void Skip(int count)
    {
        start += count;
        Taken += count;
    }

    /// <summary>How many bytes have been read as messages.</summary>
    public long Taken { get; private set; }

    /// <summary>How many bytes have come so far, read or not.</summary>
    public long Come => Taken + (end - start) + socket.Available;

    private protected async Task ReadHead()
    {
        int at;
        while ((at = Buffered.IndexOf("\r\n\r\n"u8)) < 0)
        {
            if (!await Fill()) throw new IOException("Closed before the response's head was over.");
        }
        Head = Encoding.ASCII.GetString(Buffered[..at]);
        Skip(at + 4);
    }

    private protected static string Request(int port, string path, string? token, IEnumerable<string> headers) =>
        $"GET {path} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\n{(token is null ? "" : $"Authorization: Bearer {token}\r\n")}" +
        $"{string.Concat(headers.Select(h => h + "\r\n"))}\r\n";

    /// <summary>Stops reading and sending, as a pulled cable would.</summary>
    public void Cut()
    {
        socket.LingerState = new LingerOption(true, 0);
        socket.Dispose();
    }

    public void Dispose() => socket.Dispose();

    /// <summary>The next message, or null when the connection was closed.</summary>
    public abstract Task<JsonObject?> Next();

    /// <summary>The next message of a kind; others are passed over.</summary>
    public async Task<JsonObject> Next(string kind)
    {
        using var limit = new CancellationTokenSource(Patience);
        using var cut = limit.Token.Register(Dispose); // signs of life alone must not keep a test waiting
        JsonObject? last = null;
        while (await Next() is { } message)
        {
            last = message;
            if ((string?)message["kind"] == kind) return message;
        }
        if (limit.IsCancellationRequested) throw new TimeoutException($"No '{kind}' came within {Patience.TotalSeconds} s.");
        throw new IOException($"The connection was closed before '{kind}' came; the last message was {last?.ToJsonString() ?? "none"}.");
    }

    /// <summary>The next notifications.</summary>
    public async Task<List<JsonObject>> Notifications(int count)
    {
        var list = new List<JsonObject>(count);
        while (list.Count < count) list.Add(await Next("notification"));
        return list;
    }
}

/// <summary>A WebSocket by hand-made frames.</summary>
public sealed class RawWebSocket : RawConnection
{
    RawWebSocket(Socket socket) : base(socket) { }

    /// <summary>The close frame's code, once it came.</summary>
    public int? CloseCode { get; private set; }

    /// <summary>Payloads of pongs that came.</summary>
    public List<string> Pongs { get; } = [];

    public static Task<RawWebSocket> Connect(int port, string path, string? token, params string[] headers) =>
        ConnectFrom(null, port, path, token, headers);

    /// <summary>Connects from an address of this machine's: any in 127.0.0.0/8.</summary>
    public static async Task<RawWebSocket> ConnectFrom(string? from, int port, string path, string? token, params string[] headers)
    {
        var made = new RawWebSocket(await Open(port, from));
        string[] upgrade = ["Upgrade: websocket", "Connection: Upgrade", "Sec-WebSocket-Version: 13",
            "Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==", "Sec-WebSocket-Protocol: rovett.v1"];
        await made.Write(
            Request(port, path, token,
            [.. upgrade.Where(u => !headers.Any(h => h.Split(':')[0] == u.Split(':')[0])),
            .. headers.Where(h => !h.EndsWith(": ", StringComparison.Ordinal))]));
        await made.ReadHead();
        return made;
    }

    /// <summary>A masked frame, as a client must send it.</summary>
    public static byte[] Frame(int firstByte, ReadOnlySpan<byte> payload, bool masked = true, int? lengthForm = null)
    {
        int form = lengthForm ?? (payload.Length < 126 ? 0 : payload.Length <= ushort.MaxValue ? 2 : 8);
        var frame = new List<byte> { (byte)firstByte,
            (byte)((masked ? 0x80 : 0) | (form switch { 0 => payload.Length, 2 => 126, _ => 127 })) };
        Span<byte> length = stackalloc byte[8];
        BinaryPrimitives.WriteInt64BigEndian(length, payload.Length);
        frame.AddRange(length[(8 - form)..]);
        byte[] mask = [0x37, 0xfa, 0x21, 0x3d];
        if (masked) frame.AddRange(mask);
        for (int i = 0; i < payload.Length; i++) frame.Add((byte)(payload[i] ^ (masked ? mask[i & 3] : 0)));
        return [.. frame];
    }

    public Task Text(string text) => Write(Frame(0x81, Encoding.UTF8.GetBytes(text)));

    public override async Task<JsonObject?> Next()
    {
        if (Status != 101) throw new InvalidOperationException($"The upgrade was answered {Head}{Encoding.UTF8.GetString(Buffered)}");
        for (; ; )
        {
            while (!Whole(out _, out _, out _))
            {
                if (!await Fill()) return null;
            }
            Whole(out int opcode, out var payload, out int size);
            Skip(size);
            switch (opcode)
            {
                case 1: return JsonNode.Parse(payload)!.AsObject();
                case 8:
                    CloseCode = payload.Length >= 2 ? BinaryPrimitives.ReadUInt16BigEndian(payload) : 1005;
                    return null;
                case 9: await Write(Frame(0x8A, payload)); break;
                case 10: Pongs.Add(Encoding.UTF8.GetString(payload)); break;
            }
        }
    }

    bool Whole(out int opcode, out byte[] payload, out int size)
    {
        (opcode, payload, size) = (0, [], 0);
        var bytes = Buffered;
        if (bytes.Length < 2) return false;
        if ((bytes[1] & 0x80) != 0) throw new IOException("The server masked a frame.");
        long length = bytes[1] & 127;
        int head = length == 126 ? 4 : length == 127 ? 10 : 2;
        if (bytes.Length < head) return false;
        if (head == 4) length = BinaryPrimitives.ReadUInt16BigEndian(bytes[2..]);
        if (head == 10) length = BinaryPrimitives.ReadInt64BigEndian(bytes[2..]);
        size = head + (int)length;
        if (bytes.Length < size) return false;
        opcode = bytes[0] & 15;
        payload = bytes.Slice(head, (int)length).ToArray();
        return true;
    }

    /// <summary>Says something that has a requestId, and reads on to its answer: <c>done</c>, or the last part of the
    /// problem's type.</summary>
    public async Task<string> Ask(string message)
    {
        await Text(message);
        for (; ; )
        {
            var next = (await Next())!;
            if (next["requestId"] is null) continue;
            return (string)next["kind"]! == "done" ? "done" : ((string)next["problem"]!["type"]!).Split(':')[^1];
        }
    }
}

/// <summary>A stream of events by raw socket.</summary>
public sealed class RawEvents : RawConnection
{
    readonly List<string> lines = [];
    readonly MemoryStream body = new();
    int scanned;

    RawEvents(Socket socket) : base(socket) { }

    /// <summary>The id of the last event that had one.</summary>
    public string? LastId { get; private set; }

    /// <summary>The SSE event name of the last event, and whether that one had an id.</summary>
    public (string Name, bool HasId) Last { get; private set; }

    /// <summary>Comment lines that came.</summary>
    public int Comments { get; private set; }

    public static async Task<RawEvents> Connect(int port, string path, string? token, params string[] headers)
    {
        var made = new RawEvents(await Open(port));
        await made.Write(Request(port, path, token, ["Accept: text/event-stream", .. headers]));
        await made.ReadHead();
        return made;
    }

    public override async Task<JsonObject?> Next()
    {
        for (; ; )
        {
            if (TakeEvent() is { } message) return message;
            if (!await Chunk()) return null;
        }
    }

    async Task<bool> Chunk()
    {
        int at;
        while ((at = Buffered.IndexOf("\r\n"u8)) < 0)
        {
            if (!await Fill()) return false;
        }
        int length = Convert.ToInt32(Encoding.ASCII.GetString(Buffered[..at]), 16);
        Skip(at + 2);
        while (Buffered.Length < length + 2)
        {
            if (!await Fill()) return false;
        }
        body.Write(Buffered[..length]);
        Skip(length + 2);
        return length > 0;
    }

    JsonObject? TakeEvent()
    {
        var bytes = body.GetBuffer().AsSpan(0, (int)body.Length);
        int at;
        while ((at = bytes[scanned..].IndexOf((byte)'\n')) >= 0)
        {
            var line = Encoding.UTF8.GetString(bytes.Slice(scanned, at));
            scanned += at + 1;
            if (line.StartsWith(':')) Comments++;
            else if (line.Length > 0) lines.Add(line);
            else if (lines.Count > 0)
            {
                var rest = bytes[scanned..].ToArray();
                body.SetLength(0);
                body.Write(rest);
                scanned = 0;
                var data = lines.Single(l => l.StartsWith("data: ", StringComparison.Ordinal))[6..];
                var id = lines.SingleOrDefault(l => l.StartsWith("id: ", StringComparison.Ordinal))?[4..];
                if (id is not null) LastId = id;
                Last = (lines.Single(l => l.StartsWith("event: ", StringComparison.Ordinal))[7..], id is not null);
                lines.Clear();
                return JsonNode.Parse(data)!.AsObject();
            }
        }
        return null;
    }
}
