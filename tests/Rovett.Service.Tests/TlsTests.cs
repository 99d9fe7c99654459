using System.Net;
using System.Net.Security;
using System.Net.WebSockets;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Service.Options;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>The service with a certificate of its own: TLS, HTTP/2, and WebSockets over that (RFC 8441).</summary>
public sealed class TlsTests : IAsyncLifetime
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-tls-").FullName;
    readonly TestClock clock = new();
    ServiceUnderTest s = null!;
    SocketsHttpHandler handler = null!;
    string? shown;

    string CertificateFile => Path.Combine(folder, "certificate.pem");
    string KeyFile => Path.Combine(folder, "key.pem");

    public async ValueTask InitializeAsync()
    {
        Make("localhost");
        s = await ServiceUnderTest.Start(o => (o.Certificate, o.CertificateKey) = (CertificateFile, KeyFile), clock);
        handler = new SocketsHttpHandler
        {
            UseProxy = false,
            SslOptions = new SslClientAuthenticationOptions
            {
                RemoteCertificateValidationCallback = (_, certificate, _, _) =>
                {
                    shown = certificate!.Subject;
                    return true;
                },
            },
        };
    }

    public async ValueTask DisposeAsync()
    {
        handler.Dispose();
        await s.DisposeAsync();
        Directory.Delete(folder, recursive: true);
    }

    void Make(string name)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest($"CN={name}", key, HashAlgorithmName.SHA256);
        using var made = request.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(30));
        File.WriteAllText(CertificateFile, made.ExportCertificatePem());
        File.WriteAllText(KeyFile, key.ExportPkcs8PrivateKeyPem());
    }

    async Task<(int Status, Version Version, string Text)> Send(string title)
    {
        using var http = new HttpClient(handler, disposeHandler: false)
        { DefaultRequestVersion = HttpVersion.Version20, DefaultVersionPolicy = HttpVersionPolicy.RequestVersionOrLower };
        using var request = new HttpRequestMessage(HttpMethod.Post, new Uri(s.Url, "/v1/notifications"))
        { Content = new StringContent($$"""{"to":["user:mara"],"type":"t","title":"{{title}}"}""", Encoding.UTF8, "application/json") };
        request.Headers.Authorization = new("Bearer", s.Key);
        request.Version = HttpVersion.Version20;
        using var answer = await http.SendAsync(request);
        return ((int)answer.StatusCode, answer.Version, await answer.Content.ReadAsStringAsync());
    }

    static async Task<JsonObject> Next(ClientWebSocket socket, string kind)
    {
        var buffer = new byte[65536];
        for (; ; )
        {
            int length = 0;
            for (ValueWebSocketReceiveResult part; ;)
            {
                part = await socket.ReceiveAsync(buffer.AsMemory(length), CancellationToken.None);
                length += part.Count;
                if (part.EndOfMessage) break;
            }
            var message = JsonNode.Parse(Encoding.UTF8.GetString(buffer, 0, length))!.AsObject();
            if ((string)message["kind"]! == kind) return message;
        }
    }

    [Theory]
    [InlineData("2.0")]
    [InlineData("1.1")]
    public async Task A_WebSocket_opens_over_either_version_of_HTTP(string version)
    {
        s.Url.Scheme.ShouldBe("https");
        using var invoker = new HttpMessageInvoker(handler, disposeHandler: false);
        var opened = new List<ClientWebSocket>();
        for (int i = 0; i < 3; i++)
        {
            var socket = new ClientWebSocket();
            opened.Add(socket);
            socket.Options.HttpVersion = Version.Parse(version);
            socket.Options.HttpVersionPolicy = HttpVersionPolicy.RequestVersionExact;
            socket.Options.AddSubProtocol("rovett.v1");
            socket.Options.CollectHttpResponseDetails = true;
            if (i > 0) socket.Options.SetRequestHeader("Authorization", "Bearer " + s.Token("mara"));
            await socket.ConnectAsync(new Uri($"wss://127.0.0.1:{s.Port}/v1/live?device=d{i}"), invoker, CancellationToken.None);
            ((int)socket.HttpStatusCode).ShouldBe(version == "2.0" ? 200 : 101);
            socket.SubProtocol.ShouldBe("rovett.v1");
            // One shows its token by its first message, as a page does.
            if (i == 0)
            {
                await socket.SendAsync(Encoding.UTF8.GetBytes($$"""{"kind":"renew","token":"{{s.Token("mara")}}"}"""),
                    WebSocketMessageType.Text, true, CancellationToken.None);
            }
            await Next(socket, "current");
        }
        var (status, spoken, _) = await Send("Over TLS");
        (status, spoken).ShouldBe((201, HttpVersion.Version20));
        foreach (var socket in opened)
        {
            var notification = await Next(socket, "notification");
            ((string)notification["title"]!).ShouldBe("Over TLS");
            await socket.SendAsync(Encoding.UTF8.GetBytes($$"""{"kind":"ack","upTo":"{{notification["cursor"]}}","requestId":"a"}"""),
                WebSocketMessageType.Text, true, CancellationToken.None);
            await Next(socket, "done");
            await socket.CloseAsync(WebSocketCloseStatus.NormalClosure, null, CancellationToken.None);
            socket.Dispose();
        }
        shown.ShouldBe("CN=localhost");
    }

    [Theory]
    [InlineData(LiveTransport.WebSocket, "websocket")]
    [InlineData(LiveTransport.Sse, "sse")]
    [InlineData(LiveTransport.LongPoll, "long-poll")]
    public async Task The_client_takes_each_transport_over_TLS(LiveTransport transport, string name)
    {
        using var live = new LiveConnection(s.Url, _ => new ValueTask<string>(s.Token("mara")),
            new LiveOptions { Transport = transport, Handler = handler, AckEvery = 1 });
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        await foreach (var message in live.Messages(limit.Token))
        {
            if ((string)message["kind"]! == "current") (await Send("Over TLS")).Status.ShouldBe(201);
            if ((string)message["kind"]! != "notification") continue;
            live.Transport.ShouldBe(name);
            break;
        }
        live.LastTrouble.ShouldBeNull();
    }

    [Fact]
    public async Task Over_HTTP_2_a_credential_is_needed_all_the_same()
    {
        using var invoker = new HttpMessageInvoker(handler, disposeHandler: false);
        using var socket = new ClientWebSocket();
        socket.Options.HttpVersion = HttpVersion.Version20;
        socket.Options.HttpVersionPolicy = HttpVersionPolicy.RequestVersionExact;
        socket.Options.SetRequestHeader("Authorization", "Bearer " + TestTokens.Make(new string('x', 64), "mara"));
        socket.Options.CollectHttpResponseDetails = true;
        await Should.ThrowAsync<WebSocketException>(
            () => socket.ConnectAsync(new Uri($"wss://127.0.0.1:{s.Port}/v1/live"), invoker, CancellationToken.None));
        ((int)socket.HttpStatusCode).ShouldBe(401);
        using var http = new HttpClient(handler, disposeHandler: false);
        using var foreign = new HttpRequestMessage(HttpMethod.Get, new Uri(s.Url, "/v1/inbox"));
        foreign.Headers.Add("Origin", "https://elsewhere.example");
        ((int)(await http.SendAsync(foreign)).StatusCode).ShouldBe(403);
    }

    [Fact]
    public async Task A_renewed_certificate_is_taken_up_and_a_broken_one_is_not()
    {
        async Task<string> Shown()
        {
            using var fresh = new HttpClient(new SocketsHttpHandler { UseProxy = false, SslOptions = handler.SslOptions });
            await fresh.GetAsync(new Uri(s.Url, "/healthz"));
            return shown!;
        }
        (await Shown()).ShouldBe("CN=localhost");
        await File.WriteAllTextAsync(CertificateFile, "no certificate");
        File.SetLastWriteTimeUtc(CertificateFile, DateTime.UtcNow.AddSeconds(5));
        clock.Advance(TimeSpan.FromSeconds(40));
        (await Shown()).ShouldBe("CN=localhost");
        Make("renewed");
        File.SetLastWriteTimeUtc(CertificateFile, DateTime.UtcNow.AddSeconds(10));
        clock.Advance(TimeSpan.FromSeconds(40));
        (await Shown()).ShouldBe("CN=renewed");
    }

    [Fact]
    public void A_certificate_without_its_key_is_a_mistake_that_is_named()
    {
        var file = Path.Combine(folder, "config.yaml");
        File.WriteAllText(file, $"certificate: {CertificateFile}\n");
        Mistakes(file).ShouldContain("certificateKey go together");
        File.WriteAllText(KeyFile, "no key");
        File.WriteAllText(file, $"certificate: {CertificateFile}\ncertificateKey: {KeyFile}\n");
        Mistakes(file).ShouldContain("can't be read");
    }

    static string Mistakes(string file)
    {
        OptionsReader.Read(file, new Dictionary<string, string>(), new Dictionary<string, string>(), out var mistakes);
        return string.Join("; ", mistakes.Select(m => $"{m}"));
    }
}
