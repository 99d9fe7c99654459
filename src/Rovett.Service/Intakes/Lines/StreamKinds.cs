using System.Net;
using System.Net.Sockets;
using Rovett.Core.Events;
using Rovett.Service.Events;

namespace Rovett.Service.Intakes.Lines;

/// <summary>Lines over TCP: an API key first; each line is answered.</summary>
public sealed record TcpKind : IIntakeKind
{
    /// <summary>The address and port that it listens on.</summary>
    public required IPEndPoint Listen { get; init; }
    /// <summary>Networks that may connect, beside this machine.</summary>
    public required IReadOnlyList<IPNetwork> Allowed { get; init; }
    /// <summary>The most connections at a time.</summary>
    public int Connections { get; init; } = 100;
    /// <summary>What all intakes of lines have.</summary>
    public required LineSettings Lines { get; init; }

    /// <inheritdoc/>
    public string Word => "tcp";

    /// <inheritdoc/>
    public string From => Listen.ToString();

    /// <inheritdoc/>
    public bool NeedsRepeats => false;

    /// <inheritdoc/>
    public IncomingEvent Read(RawEvent raw, DateTimeOffset now, TimeZoneInfo zone) => Lines.Format.Event(raw.Body, now, zone);

    /// <inheritdoc/>
    public IIntakeSource Open(Inlet inlet) => new StreamSource(inlet, Lines, Connections, needsKey: true, Allowed, () =>
    {
        var socket = new Socket(Listen.AddressFamily, SocketType.Stream, ProtocolType.Tcp);
        socket.Bind(Listen);
        return socket;
    });

    /// <summary>Reads its settings.</summary>
    public static TcpKind Read(IntakeFields fields)
    {
        var (at, allowed) = LineSettings.Listen(fields, "the key and lines in the clear");
        return new TcpKind
        {
            Listen = at,
            Allowed = allowed,
            Connections = fields.Whole("connections", 1, 10_000, 100),
            Lines = LineSettings.Read(fields),
        };
    }
}

/// <summary>Lines over a Unix socket: who may open the file may send; each line is answered.</summary>
public sealed record UnixKind : IIntakeKind
{
    const UnixFileMode OwnerAndGroup =
        UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupRead | UnixFileMode.GroupWrite;

    /// <summary>The file.</summary>
    public required string Path { get; init; }
    /// <summary>The most connections at a time.</summary>
    public int Connections { get; init; } = 100;
    /// <summary>What all intakes of lines have.</summary>
    public required LineSettings Lines { get; init; }

    /// <inheritdoc/>
    public string Word => "unix";

    /// <inheritdoc/>
    public string From => Path;

    /// <inheritdoc/>
    public bool NeedsRepeats => false;

    /// <inheritdoc/>
    public IncomingEvent Read(RawEvent raw, DateTimeOffset now, TimeZoneInfo zone) => Lines.Format.Event(raw.Body, now, zone);

    /// <inheritdoc/>
    public IIntakeSource Open(Inlet inlet) => new StreamSource(inlet, Lines, Connections, needsKey: false, [], Bind);

    Socket Bind()
    {
        if (File.Exists(Path) && !IsInUse()) File.Delete(Path); // left by a process that was killed
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        socket.Bind(new UnixDomainSocketEndPoint(Path));
        File.SetUnixFileMode(Path, OwnerAndGroup);
        return socket;
    }

    bool IsInUse()
    {
        using var other = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        try
        {
            other.Connect(new UnixDomainSocketEndPoint(Path));
            return true;
        }
        catch (SocketException)
        {
            return false;
        }
    }

    /// <summary>Reads its settings.</summary>
    public static UnixKind Read(IntakeFields fields)
    {
        var path = fields.Text("path");
        if (path.Length > 100) fields.Wrong("path", "is longer than 100 characters, which a socket's path can't be");
        return new UnixKind { Path = path, Connections = fields.Whole("connections", 1, 10_000, 100), Lines = LineSettings.Read(fields) };
    }
}

/// <summary>Lines on the standard input of the service. Nobody can send them again: best effort.</summary>
public sealed record StdinKind : IIntakeKind
{
    /// <summary>What all intakes of lines have.</summary>
    public required LineSettings Lines { get; init; }

    /// <inheritdoc/>
    public string Word => "stdin";

    /// <inheritdoc/>
    public string From => "standard input";

    /// <inheritdoc/>
    public bool NeedsRepeats => false;

    /// <inheritdoc/>
    public IncomingEvent Read(RawEvent raw, DateTimeOffset now, TimeZoneInfo zone) => Lines.Format.Event(raw.Body, now, zone);

    /// <inheritdoc/>
    public IIntakeSource Open(Inlet inlet) => new StdinSource(inlet, Lines);

    /// <summary>Reads its settings.</summary>
    public static StdinKind Read(IntakeFields fields) => new() { Lines = LineSettings.Read(fields) };
}

/// <summary>Lines in UDP datagrams. Nobody hears whether they arrived: best effort.</summary>
public sealed record UdpKind : IIntakeKind
{
    /// <summary>The address and port that it listens on.</summary>
    public required IPEndPoint Listen { get; init; }
    /// <summary>Networks that may send, beside this machine.</summary>
    public required IReadOnlyList<IPNetwork> Allowed { get; init; }
    /// <summary>What all intakes of lines have.</summary>
    public required LineSettings Lines { get; init; }

    /// <inheritdoc/>
    public string Word => "udp";

    /// <inheritdoc/>
    public string From => Listen.ToString();

    /// <inheritdoc/>
    public bool NeedsRepeats => false;

    /// <inheritdoc/>
    public IncomingEvent Read(RawEvent raw, DateTimeOffset now, TimeZoneInfo zone) => Lines.Format.Event(raw.Body, now, zone);

    /// <inheritdoc/>
    public IIntakeSource Open(Inlet inlet) => new UdpSource(this, inlet);

    /// <summary>Reads its settings.</summary>
    public static UdpKind Read(IntakeFields fields)
    {
        var (at, allowed) = LineSettings.Listen(fields, "lines without any key");
        return new UdpKind { Listen = at, Allowed = allowed, Lines = LineSettings.Read(fields) };
    }
}
