using System.Net;
using System.Text;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>One trace leads from the request, or from the event, to the device's receipt.</summary>
public sealed class TracesTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-traces-").FullName;
    readonly HttpListener collector = new();
    readonly string at = $"http://127.0.0.1:{FreePort.Next()}/";
    readonly List<byte[]> pushed = [];

    public TracesTests()
    {
        collector.Prefixes.Add(at);
        collector.Start();
        _ = Collect();
    }

    public void Dispose()
    {
        collector.Close();
        Directory.Delete(folder, recursive: true);
    }

    async Task Collect()
    {
        try
        {
            for (; ; )
            {
                var one = await collector.GetContextAsync();
                using var body = new MemoryStream();
                await one.Request.InputStream.CopyToAsync(body);
                if (one.Request.Url!.AbsolutePath == "/v1/traces")
                {
                    lock (pushed) pushed.Add(body.ToArray());
                }
                one.Response.ContentType = "application/x-protobuf";
                one.Response.Close();
            }
        }
        catch (Exception error) when (error is HttpListenerException or ObjectDisposedException)
        {
            // It is over.
        }
    }

    /// <summary>How many spans with a name belong to a trace: in what is pushed, a span's name comes soon after its trace.</summary>
    int Spans(string trace, string name)
    {
        var (id, wanted) = (Convert.FromHexString(trace), Encoding.UTF8.GetBytes(name));
        int found = 0;
        lock (pushed)
        {
            foreach (var body in pushed)
            {
                for (int from = 0; body.AsSpan(from).IndexOf(id) is var next && next >= 0; from += next + id.Length)
                {
                    int begin = from + next + id.Length;
                    if (body.AsSpan(begin, Math.Min(60, body.Length - begin)).IndexOf(wanted) >= 0) found++;
                }
            }
        }
        return found;
    }

    async Task<ServiceProcess> Start(int perThousand) => await ServiceProcess.Start(folder, ["--otlp", at, "--metrics", "off"],
        new Dictionary<string, string> { ["ROVETT_TRACES_PER_THOUSAND"] = $"{perThousand}", ["OTEL_BSP_SCHEDULE_DELAY"] = "100" });

    static async Task Send(ServiceProcess service, string path, string? traceparent, string body, string type = "application/json")
    {
        using var http = new HttpClient();
        using var asked = new HttpRequestMessage(HttpMethod.Post, new Uri(service.Url, path))
        {
            Content = new StringContent(body,
            Encoding.UTF8, type)
        };
        asked.Headers.Add("Authorization", "Bearer " + (string)service.Ready["credentials"]!["adminKey"]!);
        if (traceparent is not null) asked.Headers.Add("traceparent", traceparent);
        using var answer = await http.SendAsync(asked);
        answer.IsSuccessStatusCode.ShouldBeTrue(await answer.Content.ReadAsStringAsync());
    }

    [Fact]
    public async Task A_send_is_followed_through_the_commit_to_the_receipt_of_each_device()
    {
        using var service = await Start(1);
        var secret = (string)service.Ready["credentials"]!["tokenSigningSecret"]!;
        using var desk = await RawWebSocket.Connect(service.Url.Port, "/v1/live?device=desk", TestTokens.Make(secret, "mara", []));
        using var phone = await RawEvents.Connect(service.Url.Port, "/v1/live?device=phone", TestTokens.Make(secret, "mara", []));
        await desk.Next("opened");
        await phone.Next("opened");
        const string trace = "4bf92f3577b34da6a3ce929d0e0e4736", unsampled = "5bf92f3577b34da6a3ce929d0e0e4737";
        await Send(service, "/v1/notifications", $"00-{trace}-00f067aa0ba902b7-01", """{"to":["user:mara"],"type":"t","title":"Bow thruster check due"}""");
        await Send(service, "/v1/notifications", $"00-{unsampled}-00f067aa0ba902b7-00", """{"to":["user:mara"],"type":"t","title":"Oil pressure checked"}""");
        var got = await desk.Notifications(2);
        await desk.Ask($$"""{"kind":"ack","requestId":"1","upTo":"{{got[^1]["cursor"]}}"}""");
        await Eventually.Holds(() => Spans(trace, "receive") == 1 && Spans(trace, "dispatch") == 2, "the trace has arrived");
        Spans(trace, "store").ShouldBe(1);
        Spans(trace, "POST").ShouldBe(1);
        Spans(unsampled, "").ShouldBe(0);
    }

    [Fact]
    public async Task An_event_that_names_a_trace_is_shown_in_that_and_the_next_one_is_not()
    {
        using var service = await Start(1000);
        using var http = new HttpClient();
        using var rules = new HttpRequestMessage(HttpMethod.Put, new Uri(service.Url, "/v1/rules"));
        rules.Headers.Add("Authorization", "Bearer " + (string)service.Ready["credentials"]!["adminKey"]!);
        rules.Content = new StringContent("""
            rules:
              - name: Engineers
                event: engine.check.due
                to: ["user:mara"]
                notification: { title: "{{ data.vessel }}" }
            """, Encoding.UTF8, "application/yaml");
        using var loaded = await http.SendAsync(rules, TestContext.Current.CancellationToken);
        loaded.IsSuccessStatusCode.ShouldBeTrue(await loaded.Content.ReadAsStringAsync(TestContext.Current.CancellationToken));
        using var desk = await RawWebSocket.Connect(service.Url.Port, "/v1/live",
            TestTokens.Make((string)service.Ready["credentials"]!["tokenSigningSecret"]!, "mara", []));
        await desk.Next("opened");
        const string named = "6bf92f3577b34da6a3ce929d0e0e4736", unsampled = "7bf92f3577b34da6a3ce929d0e0e4737";
        static JsonObject Event(string id, string? trace)
        {
            var found = new JsonObject
            {
                ["specversion"] = "1.0",
                ["id"] = id,
                ["source"] = "/planning",
                ["type"] = "engine.check.due",
                ["data"] = new JsonObject { ["vessel"] = "Turnstone" },
            };
            if (trace is not null) found["traceparent"] = trace;
            return found;
        }
        var events = new JsonArray(Event("1", $"00-{named}-00f067aa0ba902b7-01"), Event("2", null), Event("3",
            $"00-{unsampled}-00f067aa0ba902b7-00"));
        await Send(service, "/v1/events", null, events.ToJsonString(), "application/cloudevents-batch+json");
        await desk.Notifications(3);
        await Eventually.Holds(() => Spans(named, "dispatch") > 0, "the trace has arrived");
        (await service.Terminate()).ShouldBe(0); // what was to be pushed is, when it ends
        Spans(named, "dispatch").ShouldBe(1);
        Spans(unsampled, "").ShouldBe(0);
        lock (pushed) pushed.Sum(body => Regex.Count(Encoding.Latin1.GetString(body), "dispatch")).ShouldBe(2,
            "the second is in the request's own");
    }

    [Fact]
    public async Task Without_tracing_nothing_is_pushed()
    {
        using var service = await Start(0);
        await Send(service, "/v1/notifications", "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01", """{"to":["user:mara"],"type":"t","title":"Bow thruster check due"}""");
        (await service.Terminate()).ShouldBe(0); // what was to be pushed is, when it ends
        lock (pushed) pushed.ShouldBeEmpty();
    }
}
