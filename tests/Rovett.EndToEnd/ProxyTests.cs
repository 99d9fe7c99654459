using System.Net;
using System.Net.Security;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>nginx, HAProxy and Caddy from Debian's packages in front of the service: with the configurations that are shipped, TLS and
/// HTTP/2 at the front, and as they should not be.</summary>
public sealed class ProxyTests : IAsyncLifetime
{
    readonly SocketsHttpHandler handler = new()
    {
        UseProxy = false,
        SslOptions = new SslClientAuthenticationOptions { RemoteCertificateValidationCallback = (_, _, _, _) => true }
    };
    ServiceUnderTest service = null!;
    Proxy? proxy;

    public async ValueTask InitializeAsync() => service = await ServiceUnderTest.Start();

    public async ValueTask DisposeAsync()
    {
        if (proxy is not null) await proxy.DisposeAsync();
        handler.Dispose();
        await service.DisposeAsync();
    }

    async Task<Uri> Shipped(string file) => (proxy = await Proxy.Shipped(file, service.Port, name: "notify.example")).Url;

    async Task<Uri> Nginx(string location) => (proxy = await Proxy.Nginx(service.Port, location)).Url;

    /// <summary>Receives until it has as many; the last ones are sent when it is live. Each ack is seen to arrive.</summary>
    async Task<(string Transport, List<string> Titles)> Receive(Uri url, int count, Func<LiveConnection, Task<int>>? whenLive = null)
    {
        using var live = new LiveConnection(url, _ => new ValueTask<string>(service.Token("mara", "engineer")),
            new LiveOptions { Device = "desk", Handler = handler, AckEvery = 1 });
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        var titles = new List<string>();
        Task? sending = null;
        var transport = "";
        await foreach (var message in live.Messages(limit.Token))
        {
            if ((string)message["kind"]! == "current") sending ??= SendRest(live, titles.Count);
            if ((string)message["kind"]! == "notification") titles.Add((string)message["title"]!);
            if (titles.Count < count) continue;
            transport = live.Transport!;
            await live.Send(new JsonObject { ["kind"] = "ack", ["upTo"] = (string)message["cursor"]! });
            break;
        }
        if (titles.Count < count) throw new InvalidOperationException($"The stream ended after {titles.Count}: {live.LastTrouble}");
        await sending!;
        await Eventually.Holds(() => service.Get("/v1/inbox", service.Token("mara", "engineer")),
            a => a.Json!["items"]!.AsArray().All(i => i!["state"]!["received"] is not null), "all are received");
        return (transport, titles);

        async Task SendRest(LiveConnection live, int from)
        {
            if (whenLive is not null) from += await whenLive(live);
            for (int i = from; i < count; i++) await service.Send("role:engineer", $"live {i}");
        }
    }

    static readonly string[] Four = ["before", "live 1", "live 2", "live 3"];

    [Theory]
    [InlineData("nginx.conf")]
    [InlineData("haproxy.cfg")]
    [InlineData("Caddyfile")]
    public async Task With_the_shipped_configuration_the_WebSocket_passes_and_so_do_streams_without_delay(string file)
    {
        var url = await Shipped(file);
        await service.Send("role:engineer", "before");
        var (transport, titles) = await Receive(url, 4);
        transport.ShouldBe("websocket");
        titles.ShouldBe(Four);

        // A stream over HTTP/2 at the front: each event at once, and the post beside it.
        using var stream = new LiveConnection(url, _ => new ValueTask<string>(service.Token("mara", "engineer")),
            new LiveOptions { Transport = LiveTransport.Sse, Device = "desk", Handler = handler, After = "now" });
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        int came = 0;
        await foreach (var message in stream.Messages(limit.Token))
        {
            var kind = (string)message["kind"]!;
            if (kind == "current" || (kind == "notification" && ++came < 3)) await service.Send("role:engineer", $"streamed {came}");
            if (came == 3) break;
        }
        stream.Reconnects.ShouldBe(0);
        using var http = new HttpClient(handler, disposeHandler: false) { DefaultRequestVersion = HttpVersion.Version20 };
        using var answer = await http.GetAsync(new Uri(url, "/healthz"));
        (answer.Version, (int)answer.StatusCode).ShouldBe((HttpVersion.Version20, 200));
        // A page of the proxy's own address is the service's own; another's is not.
        (await Ask(url, url.ToString().TrimEnd('/'))).ShouldBe(200);
        (await Ask(url, "https://elsewhere.example")).ShouldBe(403);
    }

    async Task<int> Ask(Uri url, string origin)
    {
        using var http = new HttpClient(handler, disposeHandler: false);
        using var request = new HttpRequestMessage(HttpMethod.Get, new Uri(url, "/v1/inbox"));
        request.Headers.Authorization = new("Bearer", service.Token("mara", "engineer"));
        request.Headers.Add("Origin", origin);
        using var answer = await http.SendAsync(request);
        return (int)answer.StatusCode;
    }

    [Fact]
    public async Task With_the_upgrade_stripped_and_responses_buffered_it_goes_on_over_events_and_loses_nothing()
    {
        // Buffering is on, as is nginx's default: the stream's own X-Accel-Buffering switches it off for itself.
        var url = await Nginx(Proxy.Simple +
            "proxy_buffering on; proxy_buffers 8 64k; gzip on; gzip_types text/event-stream; gzip_min_length 1;");
        await service.Send("role:engineer", "before");
        var (transport, titles) = await Receive(url, 4);
        (transport, string.Join(' ', titles)).ShouldBe(("sse", string.Join(' ', Four)));
    }

    [Theory]
    [InlineData("websocket", Proxy.Upgrading)]
    [InlineData("sse", Proxy.Simple)]
    public async Task Where_quiet_connections_are_cut_it_comes_back_and_loses_and_doubles_nothing(string transport, string location)
    {
        var url = await Nginx(location + "proxy_read_timeout 2s; proxy_send_timeout 2s;");
        await service.Send("role:engineer", "before");
        var (used, titles) = await Receive(url, 4, async live =>
        {
            await Eventually.Holds(() => live.Reconnects >= 2, "it was cut twice", 30);
            await service.Send("role:engineer", "while it is cut");
            return 1;
        });
        used.ShouldBe(transport);
        titles.ShouldBe(["before", "while it is cut", "live 2", "live 3"]);
    }
}
