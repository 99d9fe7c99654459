using System.Diagnostics.Metrics;
using System.Globalization;
using System.Net;
using System.Text;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Rovett.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>What the service measures, as those who watch over it read it. docs/metrics.md lists it; <c>ROVETT_WRITE_DOCS=1</c> writes
/// its table.</summary>
public sealed partial class MetricsTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-metrics-").FullName;
    readonly HttpClient http = new();

    public void Dispose()
    {
        http.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    static double Value(string text, string name, params string[] labels) => text.Split('\n')
        .Where(l => l.StartsWith(name + "{", StringComparison.Ordinal) || l.StartsWith(name + " ", StringComparison.Ordinal))
        .Where(l => labels.All(label => l.Contains(label, StringComparison.Ordinal)))
        .Sum(l => double.Parse(l.Split("} ")[^1].Split(' ')[0], CultureInfo.InvariantCulture));

    [Fact]
    public async Task They_are_read_as_Prometheus_text_on_a_port_of_their_own_and_name_no_people()
    {
        using var service = await ServiceProcess.Start(folder);
        var (key, secret) = ((string)service.Ready["credentials"]!["adminKey"]!,
            (string)service.Ready["credentials"]!["tokenSigningSecret"]!);
        var metrics = new Uri((string)service.Ready["metrics"]!);
        using var client = new RovettClient(service.Url, key);
        using var mara = await RawWebSocket.Connect(service.Url.Port, "/v1/live?device=canary-device", TestTokens.Make(secret,
            "canary-mara", ["engineer"]));
        await mara.Next("opened");
        using var teo = await RawEvents.Connect(service.Url.Port, "/v1/live", TestTokens.Make(secret, "canary-teo", []));
        await teo.Next("opened");
        for (int i = 0; i < 3; i++)
        {
            await client.Send(new JsonObject
            {
                ["to"] = new JsonArray("user:canary-mara"),
                ["type"] = "t",
                ["title"] = "Bow thruster check due"
            });
        }
        var last = (await mara.Notifications(3))[^1];
        await mara.Ask($$"""{"kind":"ack","requestId":"1","upTo":"{{last["cursor"]}}"}""");
        await Should.ThrowAsync<RovettRefusedException>(() => client.Send(new JsonObject { ["to"] = new JsonArray("user:canary-mara") }));

        var text = await Eventually.Holds(() => http.GetStringAsync(metrics), t => Value(t, "rovett_receipts_total") == 3,
            "receipts are counted");

        string[] main = ["rovett_space=\"main\""], socket = [.. main, "rovett_transport=\"websocket\""];
        Value(text, "rovett_notifications_total", main).ShouldBe(3);
        Value(text, "rovett_refusals_total", [.. main, "error_type=\"invalid-fields\""]).ShouldBe(1);
        Value(text, "rovett_session_opens_total", socket).ShouldBe(1);
        Value(text, "rovett_sessions", [.. main, "rovett_transport=\"sse\""]).ShouldBe(1);
        Value(text, "rovett_dispatches_total", socket).ShouldBe(3);
        Value(text, "rovett_session_acknowledgements_total", socket).ShouldBe(3);
        Value(text, "rovett_session_io_bytes_total", socket).ShouldBeGreaterThan(500);
        Value(text, "rovett_dispatch_duration_seconds_count", socket).ShouldBe(3);
        Value(text, "rovett_delivery_duration_seconds_count", main).ShouldBe(3);
        Value(text, "rovett_batch_duration_seconds_count").ShouldBeGreaterThan(3);
        Value(text, "rovett_command_duration_seconds_count", "rovett_command=\"attach\"").ShouldBe(2);
        Value(text, "rovett_store_size_bytes").ShouldBeGreaterThan(10_000);
        Value(text, "rovett_connections").ShouldBeGreaterThanOrEqualTo(2);
        Value(text, "rovett_faults_total").ShouldBe(0);
        text.ShouldContain("dotnet_gc_collections_total");
        text.ShouldNotContain("canary");

        using var elsewhere = await http.GetAsync(new Uri(service.Url, "/metrics"), TestContext.Current.CancellationToken);
        elsewhere.StatusCode.ShouldBe(HttpStatusCode.NotFound);
        using var other = await http.GetAsync(new Uri(metrics, "/v1/status"), TestContext.Current.CancellationToken);
        other.StatusCode.ShouldBe(HttpStatusCode.NotFound);
        (await other.Content.ReadAsStringAsync(TestContext.Current.CancellationToken)).ShouldContain("/metrics");
    }

    [Fact]
    public async Task Four_of_those_acknowledged_together_are_timed_and_all_are_counted()
    {
        using var service = await ServiceProcess.Start(folder);
        using var client = new RovettClient(service.Url, (string)service.Ready["credentials"]!["adminKey"]!);
        using var mara = await RawWebSocket.Connect(service.Url.Port, "/v1/live",
            TestTokens.Make((string)service.Ready["credentials"]!["tokenSigningSecret"]!, "mara"));
        await mara.Next("opened");
        for (int i = 0; i < 10; i++)
            await client.Send(new JsonObject { ["to"] = new JsonArray("user:mara"), ["type"] = "t", ["title"] = "Bow thruster check due" });
        var last = (await mara.Notifications(10))[^1];
        await mara.Ask($$"""{"kind":"ack","requestId":"1","upTo":"{{last["cursor"]}}"}""");
        var metrics = new Uri((string)service.Ready["metrics"]!);
        var text = await Eventually.Holds(() => http.GetStringAsync(metrics), t => Value(t, "rovett_receipts_total") == 10, "all are counted");
        Value(text, "rovett_delivery_duration_seconds_count").ShouldBe(4);
    }

    [Fact]
    public async Task They_are_pushed_to_a_collector()
    {
        using var collector = new HttpListener();
        var at = $"http://127.0.0.1:{FreePort.Next()}/";
        collector.Prefixes.Add(at);
        collector.Start();
        using var service = await ServiceProcess.Start(folder, ["--otlp", at, "--metrics", "off"],
            new Dictionary<string, string>
            {
                ["OTEL_METRIC_EXPORT_INTERVAL"] = "100",
                ["OTEL_EXPORTER_OTLP_HEADERS"] = "x-tenant=ferries"
            });
        service.Ready["metrics"].ShouldBeNull();
        using var client = new RovettClient(service.Url, (string)service.Ready["credentials"]!["adminKey"]!);
        await client.Send(new JsonObject { ["to"] = new JsonArray("user:mara"), ["type"] = "t", ["title"] = "Bow thruster check due" });
        for (; ; )
        {
            var pushed = await collector.GetContextAsync().WaitAsync(TimeSpan.FromSeconds(20), TestContext.Current.CancellationToken);
            using var body = new MemoryStream();
            await pushed.Request.InputStream.CopyToAsync(body, TestContext.Current.CancellationToken);
            pushed.Response.ContentType = "application/x-protobuf";
            pushed.Response.Close();
            pushed.Request.Url!.AbsolutePath.ShouldBe("/v1/metrics");
            pushed.Request.Headers["x-tenant"].ShouldBe("ferries");
            if (Encoding.UTF8.GetString(body.ToArray()).Contains("rovett.notifications", StringComparison.Ordinal)) return;
        }
    }

    [Fact]
    public async Task A_port_that_is_taken_and_one_that_is_none_are_refused_with_the_fix()
    {
        using var first = await ServiceProcess.Start(folder);
        var taken = new Uri((string)first.Ready["metrics"]!).Port;
        var second = Path.Combine(folder, "second");
        var refused = await ServiceProcess.Cli(["serve", "--data", second, "--port", "0", "--metrics", $"{taken}"]);
        refused.ExitCode.ShouldBe(1);
        refused.Error.ShouldContain($"{taken}");
        refused.Error.ShouldContain("--metrics");
        var wrong = await ServiceProcess.Cli(["serve", "--data", second, "--port", "0", "--metrics", "everywhere"]);
        wrong.ExitCode.ShouldBe(2);
        wrong.Error.ShouldContain("--metrics: 'everywhere' is no port");
    }

    /// <summary>The page's table, out of the instruments themselves.</summary>
    [Fact]
    public async Task The_page_lists_every_metric()
    {
        await using var s = await ServiceUnderTest.Start();
        var found = new List<Instrument>();
        using (var listener = new MeterListener())
        {
            listener.InstrumentPublished = (instrument, _) =>
            {
                if (instrument.Meter.Scope == s.Service.Meters) found.Add(instrument);
            };
            listener.Start();
        }
        var table = new StringBuilder();
        foreach (var one in found.Where(i => !i.Name.StartsWith("rovett.node", StringComparison.Ordinal)).OrderBy(i => i.Name,
            StringComparer.Ordinal))
        {
            var kind = one.GetType().Name.Split('`')[0] switch
            {
                "Counter" or "ObservableCounter" => "counter",
                "Histogram" => "histogram",
                _ => "gauge",
            };
            table.Append(CultureInfo.InvariantCulture, $"| `{one.Name}` | `{PrometheusName(one, kind)}` | {kind} | {one.Unit} | " +
                $"{one.Description} |\n");
        }
        var file = Path.Combine(ServiceProcess.Root, "docs", "metrics.md");
        var page = await File.ReadAllTextAsync(file, TestContext.Current.CancellationToken);
        var there = Table().Match(page);
        there.Success.ShouldBeTrue("the page has its table");
        if (Environment.GetEnvironmentVariable("ROVETT_WRITE_DOCS") == "1")
        {
            await File.WriteAllTextAsync(file, page[..there.Groups[1].Index] + table + page[(there.Groups[1].Index +
                there.Groups[1].Length)..],
                TestContext.Current.CancellationToken);
        }
        else there.Groups[1].Value.ShouldBe(table.ToString());
    }

    static string PrometheusName(Instrument one, string kind)
    {
        var name = one.Name.Replace('.', '_') + one.Unit switch { "s" => "_seconds", "By" => "_bytes", _ => "" };
        return kind == "counter" ? name + "_total" : name;
    }

    [GeneratedRegex(@"<!-- the service's own -->\n\| .*\n\|---.*\n((?:\|.*\n)*)<!-- end -->")]
    private static partial Regex Table();
}
