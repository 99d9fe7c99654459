using Microsoft.AspNetCore.Hosting;
using OpenTelemetry;
using OpenTelemetry.Exporter;
using OpenTelemetry.Metrics;
using OpenTelemetry.Resources;
using OpenTelemetry.Trace;
using Rovett.Service.Diagnostics;
using Rovett.Service.Http;
using Rovett.Service.Meters;
using Rovett.Service.Options;

namespace Rovett.Service.Telemetry;

/// <summary>Gives what the service measures to whoever watches over it: as Prometheus text on a port of its own, and pushed by
/// OTLP.</summary>
static class Exports
{
    const string Path = "/metrics";
    static readonly MetricsDoor There = new();

    /// <summary>Marks the connections to the port of the metrics.</summary>
    sealed class MetricsDoor;

    /// <summary>Measures what is exported, if anything is.</summary>
    public static void AddExports(this IServiceCollection services, RovettOptions options)
    {
        var telemetry = services.AddOpenTelemetry().ConfigureResource(r => r.AddService("rovett", serviceVersion: ServiceInfo.Version,
            serviceInstanceId: options.NodeUrl ?? Environment.MachineName, autoGenerateServiceInstanceId: false));
        if (options.Otlp is not null && options.TracesPerThousand > 0) AddTraces(telemetry, options);
        if (options.MetricsEndPoint is null && options.Otlp is null) return;
        telemetry.WithMetrics(metrics =>
        {
            metrics.AddMeter(ServiceMeters.Name, "System.Runtime");
            if (options.MetricsEndPoint is not null) metrics.AddPrometheusExporter(o => o.ScrapeEndpointPath = Path);
            if (options.Otlp is not null) metrics.AddOtlpExporter((o, _) => Configure(o, options, "v1/metrics"));
        });
    }

    static void AddTraces(OpenTelemetryBuilder telemetry, RovettOptions options) => telemetry.WithTracing(traces => traces
        .SetSampler(new ParentBasedSampler(new TraceIdRatioBasedSampler(options.TracesPerThousand / 1000.0)))
        .AddSource(Traces.Name)
        // A live connection is no piece of work, and who asks whether the service is well asks often.
        .AddAspNetCoreInstrumentation(o => o.Filter = context => !IsLive(context.Request.Path)
            && !context.Request.Path.StartsWithSegments("/healthz")
            && !context.Request.Path.StartsWithSegments("/readyz"))
        .AddHttpClientInstrumentation(o => o.FilterHttpRequestMessage = _ => Traces.Here is not null) // not what pushes the traces
        .AddOtlpExporter(o => Configure(o, options, "v1/traces")));

    static bool IsLive(PathString path) => path.Value is { } p && (p.EndsWith("/v1/live", StringComparison.Ordinal)
        || p.Contains("/v1/live/", StringComparison.Ordinal));

    static void Configure(OtlpExporterOptions exporter, RovettOptions options, string path)
    {
        bool isGrpc = options.OtlpProtocol == "grpc";
        exporter.Protocol = isGrpc ? OtlpExportProtocol.Grpc : OtlpExportProtocol.HttpProtobuf;
        exporter.Endpoint = isGrpc ? new Uri(options.Otlp!) : new Uri(options.Otlp!.TrimEnd('/') + "/" + path);
    }

    /// <summary>Listens where metrics are read.</summary>
    public static void ListenForMetrics(this WebApplicationBuilder builder, RovettOptions options)
    {
        if (options.MetricsEndPoint is not { } at) return;
        builder.WebHost.ConfigureKestrel(o => o.Listen(at, listen => listen.Use(next => connection =>
        {
            connection.Features.Set(There);
            return next(connection);
        })));
    }

    /// <summary>Answers there, and nowhere else.</summary>
    public static void UseMetrics(this WebApplication app, RovettOptions options)
    {
        if (options.MetricsEndPoint is null) return;
        app.MapWhen(CameThere, there =>
        {
            there.UseOpenTelemetryPrometheusScrapingEndpoint();
            there.Run(context => Problems.Write(context, new Problem(404, "unknown-path", "No such path",
                $"Only {Path} is answered on this port.", $"Ask for GET {Path}, or use the service's own port.")));
        });
    }

    static bool CameThere(HttpContext context) => context.Features.Get<MetricsDoor>() is not null;
}
