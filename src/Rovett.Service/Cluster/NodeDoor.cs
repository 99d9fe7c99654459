using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using Microsoft.AspNetCore.Connections;
using Rovett.Service.Tls;

namespace Rovett.Service.Cluster;

/// <summary>The address where nodes pass requests on to each other. Whoever shows their secret there is believed from whom a request
/// came.</summary>
/// <param name="me">This node.</param>
sealed class NodeDoor(NodeIdentity me)
{
    /// <summary>A request is passed on so many times: who serves a space may change on its way.</summary>
    public const int MostHops = 3;

    /// <summary>Where the secret is shown.</summary>
    public const string SecretHeader = "Rovett-Cluster-Secret";

    const string ClientHeader = "Rovett-Client", HopsHeader = "Rovett-Hops",
        SchemeHeader = "Rovett-Scheme";
    static readonly string[] Own = [SecretHeader, ClientHeader, HopsHeader, SchemeHeader];

    /// <summary>Marks the connections of a listener.</summary>
    public ConnectionDelegate Mark(ConnectionDelegate next) => connection =>
    {
        connection.Features.Set(this);
        return next(connection);
    };

    /// <summary>The door that a request came by; null: it came from outside.</summary>
    public static NodeDoor? Of(HttpContext context) => context.Features.Get<NodeDoor>();

    sealed record Passed(int Hops);

    /// <summary>How many nodes have passed a request on.</summary>
    public static int Hops(HttpContext context) => context.Features.Get<Passed>()?.Hops ?? 0;

    /// <summary>Lets a request of a node in, as if it had come here from outside.</summary>
    /// <returns>False: it does not show the secret.</returns>
    public bool Enter(HttpContext context)
    {
        var headers = context.Request.Headers;
        if (!me.IsSecret(headers[SecretHeader])) return false;
        context.Features.Set(new Passed(int.TryParse(headers[HopsHeader], CultureInfo.InvariantCulture, out int hops) ? hops : 1));
        if (IPAddress.TryParse(headers[ClientHeader], out var client)) context.Connection.RemoteIpAddress = client;
        if (headers[SchemeHeader] is [{ Length: > 0 } scheme, ..]) context.Request.Scheme = scheme;
        foreach (var name in Own) headers.Remove(name);
        return true;
    }

    /// <summary>Writes what a node tells another of a request.</summary>
    public static void Tell(HttpRequestHeaders headers, string secret, HttpContext context, int hops)
    {
        foreach (var name in Own) headers.Remove(name); // whoever wrote them is no node
        headers.Add(SecretHeader, secret);
        headers.Add(HopsHeader, hops.ToString(CultureInfo.InvariantCulture));
        headers.Add(SchemeHeader, context.Request.Scheme);
        if (context.Connection.RemoteIpAddress is { } client) headers.Add(ClientHeader, client.ToString());
    }
}
