using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>nginx from Debian's packages in front of the service: once as it should be, once with the upgrade stripped
/// and the responses buffered.</summary>
public sealed class ProxyTests : IAsyncLifetime
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-nginx-").FullName;
    ServiceUnderTest service = null!;
    Process? nginx;

    public async ValueTask InitializeAsync() => service = await ServiceUnderTest.Start();

    public async ValueTask DisposeAsync()
    {
        if (nginx is not null)
        {
            nginx.Kill();
            await nginx.WaitForExitAsync();
            nginx.Dispose();
        }
        await service.DisposeAsync();
        Directory.Delete(folder, recursive: true);
    }

    async Task<Uri> Front(string location)
    {
        int port;
        using (var free = new TcpListener(IPAddress.Loopback, 0))
        {
            free.Start();
            port = ((IPEndPoint)free.LocalEndpoint).Port;
        }
        var config = Path.Combine(folder, "nginx.conf");
        await File.WriteAllTextAsync(config, $$"""
            daemon off; master_process off; pid {{folder}}/nginx.pid; error_log {{folder}}/error.log;
            events { worker_connections 256; }
            http {
              access_log off;
              client_body_temp_path {{folder}}/body; proxy_temp_path {{folder}}/proxy; fastcgi_temp_path {{folder}}/f; uwsgi_temp_path {{folder}}/u; scgi_temp_path {{folder}}/s;
              server {
                listen 127.0.0.1:{{port}};
                location / { proxy_pass {{service.Url.ToString().TrimEnd('/')}}; {{location}} }
              }
            }
            """);
        nginx = Process.Start(new ProcessStartInfo("nginx", ["-p", folder, "-c", config]) { RedirectStandardError = true })!;
        using var http = new HttpClient();
        await Eventually.Holds(async () =>
        {
            try
            {
                return (await http.GetAsync($"http://127.0.0.1:{port}/healthz")).IsSuccessStatusCode;
            }
            catch (HttpRequestException)
            {
                return false;
            }
        }, ok => ok, "nginx answers");
        return new Uri($"http://127.0.0.1:{port}");
    }

    async Task<(string Transport, List<string> Titles)> Receive(Uri url, int count)
    {
        using var live = new LiveConnection(url, _ => new ValueTask<string>(service.Token("mara", "engineer")), new LiveOptions { Device = "desk" });
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        var titles = new List<string>();
        await foreach (var message in live.Messages(limit.Token))
        {
            if ((string)message["kind"]! == "current")
            {
                for (int i = titles.Count; i < count; i++) await service.Send("role:engineer", $"live {i}");
            }
            if ((string)message["kind"]! == "notification") titles.Add((string)message["title"]!);
            if (titles.Count < count) continue;
            await live.Send(new JsonObject { ["kind"] = "ack", ["upTo"] = (string)message["cursor"]! });
            return (live.Transport!, titles);
        }
        throw new InvalidOperationException($"The stream ended after {titles.Count}: {live.LastTrouble}");
    }

    [Fact]
    public async Task As_it_should_be_the_WebSocket_passes()
    {
        var url = await Front("proxy_http_version 1.1; proxy_set_header Upgrade $http_upgrade; proxy_set_header Connection upgrade; proxy_set_header Host $host:$server_port; proxy_read_timeout 1h;");
        await service.Send("role:engineer", "before");
        var (transport, titles) = await Receive(url, 4);
        transport.ShouldBe("websocket");
        titles.ShouldBe(["before", "live 1", "live 2", "live 3"]);
    }

    [Fact]
    public async Task With_the_upgrade_stripped_and_responses_buffered_it_goes_on_over_events_and_loses_nothing()
    {
        // Buffering is on, as is nginx's default: the stream's own X-Accel-Buffering switches it off for itself.
        var url = await Front("proxy_http_version 1.1; proxy_set_header Connection \"\"; proxy_buffering on; proxy_buffers 8 64k; gzip on; gzip_types text/event-stream; gzip_min_length 1;");
        await service.Send("role:engineer", "before");
        var (transport, titles) = await Receive(url, 4);
        transport.ShouldBe("sse");
        titles.ShouldBe(["before", "live 1", "live 2", "live 3"]);
        // And the ack got through the proxy as well.
        await Eventually.Holds(() => service.Get("/v1/inbox", service.Token("mara", "engineer")), a => a.Json!["items"]!.AsArray().All(i => i!["state"]!["received"] is not null), "all four are received");
    }
}
