using System.Net;
using Rovett.Core.Events;

namespace Rovett.Service.Intakes.Lines;

/// <summary>What all intakes of lines have.</summary>
public sealed record LineSettings
{
    /// <summary>How a line is read.</summary>
    public required LineFormat Format { get; init; }
    /// <summary>The longest line, in bytes.</summary>
    public int MaxLine { get; init; } = IncomingEvent.MaxBytes;
    /// <summary>Lines a second; 0: any number.</summary>
    public int PerSecond { get; init; }

    /// <summary>Reads its settings.</summary>
    public static LineSettings Read(IntakeFields fields) => new()
    {
        Format = LineFormat.Read(fields),
        MaxLine = fields.Whole("maxLine", 16, IncomingEvent.MaxBytes, IncomingEvent.MaxBytes),
        PerSecond = fields.Whole("linesPerSecond", 0, 1_000_000, 0),
    };

    /// <summary>An address and a port; networks that may connect, where it is not this machine alone.</summary>
    public static (IPEndPoint At, IReadOnlyList<IPNetwork> Allowed) Listen(IntakeFields fields, string what)
    {
        var text = fields.Text("listen");
        var allowed = new List<IPNetwork>();
        foreach (var network in fields.Texts("from"))
        {
            if (IPNetwork.TryParse(network, out var found)) allowed.Add(found);
            else fields.Wrong("from", $"'{network}' is no network such as 10.1.0.0/16");
        }
        if (!IPEndPoint.TryParse(text, out var at) || (at.Port == 0 && !text.EndsWith(":0", StringComparison.Ordinal)))
        {
            if (text.Length > 0) fields.Wrong("listen", "must be an IP address and a port, such as 127.0.0.1:7520");
            return (new IPEndPoint(IPAddress.Loopback, 0), allowed);
        }
        if (!IPAddress.IsLoopback(at.Address) && allowed.Count == 0)
        {
            fields.Wrong("listen",
                $"is reachable from other machines; name the networks that may send {what}, such as from: [10.1.0.0/16]");
        }
        return (at, allowed);
    }

    /// <summary>Whether an address may send.</summary>
    public static bool Allows(IReadOnlyList<IPNetwork> allowed, IPAddress? address)
    {
        if (address is null) return false;
        if (address.IsIPv4MappedToIPv6) address = address.MapToIPv4();
        return IPAddress.IsLoopback(address) || allowed.Any(n => n.Contains(address));
    }
}
