using System.Net;
using System.Net.Sockets;

namespace Rovett.Service.Outbound;

/// <summary>Decides where this service may connect to on somebody's word: public addresses, and the networks that the
/// operator named. A name is resolved once, and exactly what was checked is connected to.</summary>
public sealed class OutboundGuard(IReadOnlyList<IPNetwork> allowed)
{
    volatile IReadOnlyList<IPNetwork> allowed = allowed;

    /// <summary>Names other networks, for connections from now on.</summary>
    public void Allow(IReadOnlyList<IPNetwork> networks) => allowed = networks;

    // What no public address lies in: IANA's special-purpose registries.
    static readonly IPNetwork[] Special =
    [
        .. new[]
        {
            "0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12", "192.0.0.0/24", "192.0.2.0/24",
                "192.88.99.0/24", "192.168.0.0/16",
            "198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "224.0.0.0/4", "240.0.0.0/4",
        }.Select(n => IPNetwork.Parse(n)),
    ];
    // Of IPv6 only the global unicast space is public, without the tunnels and documentation in it.
    static readonly IPNetwork Global = IPNetwork.Parse("2000::/3");
    static readonly IPNetwork[] NotGlobal = [IPNetwork.Parse("2001::/23"), IPNetwork.Parse("2001:db8::/32"), IPNetwork.Parse("2002::/16"),
        IPNetwork.Parse("3fff::/20")];

    /// <summary>Whether an address may be connected to.</summary>
    public bool Allows(IPAddress address)
    {
        if (address.IsIPv4MappedToIPv6) address = address.MapToIPv4();
        if (allowed.Any(n => n.Contains(address))) return true;
        return address.AddressFamily == AddressFamily.InterNetwork
            ? !Special.Any(n => n.Contains(address))
            : Global.Contains(address) && !NotGlobal.Any(n => n.Contains(address));
    }

    /// <summary>Whether the operator named a network with this address.</summary>
    public bool IsNamed(IPAddress address) => allowed.Any(n => n.Contains(address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address));

    /// <summary>Resolves a name, once.</summary>
    /// <exception cref="OutboundRefusedException">One of its addresses may not be connected to, or it has none.</exception>
    public async Task<IPAddress[]> Resolve(string host, CancellationToken cancel)
    {
        IPAddress[] addresses;
        try
        {
            addresses = IPAddress.TryParse(host.Trim('[', ']'), out var literal)
                ? [literal]
                : await Dns.GetHostAddressesAsync(host, cancel);
        }
        catch (SocketException error)
        {
            throw new OutboundRefusedException($"{host} can't be resolved: {error.Message}");
        }
        if (addresses.Length == 0) throw new OutboundRefusedException($"{host} has no address.");
        // One that may not be reached spoils them all: a name that stands for both is not to be trusted.
        if (addresses.FirstOrDefault(a => !Allows(a)) is { } refused)
        {
            throw new OutboundRefusedException(
                $"{host} is {refused}, in a private or special network; the operator can allow it with webhookNetworks.");
        }
        return addresses;
    }

    /// <summary>A handler that connects only where it may, follows no redirect and uses no proxy.</summary>
    public SocketsHttpHandler Handler() => new()
    {
        AllowAutoRedirect = false,
        UseProxy = false,
        UseCookies = false,
        ConnectTimeout = TimeSpan.FromSeconds(10),
        PooledConnectionLifetime = TimeSpan.FromMinutes(2),
        MaxResponseHeadersLength = 16,
        ConnectCallback = async (context, cancel) =>
        {
            var addresses = await Resolve(context.DnsEndPoint.Host, cancel);
            if (context.InitialRequestMessage.RequestUri!.Scheme == "http" && !addresses.All(IsNamed))
            {
                throw new OutboundRefusedException("A plain http address is only taken in webhookNetworks.");
            }
            var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
            try
            {
                await socket.ConnectAsync(addresses, context.DnsEndPoint.Port, cancel);
                return new NetworkStream(socket, ownsSocket: true);
            }
            catch
            {
                socket.Dispose();
                throw;
            }
        },
    };
}

/// <summary>A connection is not to be made.</summary>
public sealed class OutboundRefusedException(string message) : IOException(message);
