using System.Globalization;
using System.Net;
using System.Net.Security;
using Microsoft.AspNetCore.Hosting;
using Rovett.Service.Cluster;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Options;
using Rovett.Service.Telemetry;
using Rovett.Service.Tls;
using Serilog;
using Serilog.Core;
using Serilog.Events;
using Serilog.Formatting;
using Serilog.Formatting.Compact;
using Serilog.Formatting.Display;

namespace Rovett.Service.Hosting;

/// <summary>The framework's server and log, as the service wants them.</summary>
static class Server
{
    const long LogFileBytes = 100 << 20;
    const int LogFiles = 14;

    public static void ConfigureServer(this WebApplicationBuilder builder, RovettOptions options)
    {
        builder.Logging.ClearProviders();
        builder.Logging.AddSerilog(Log(options), dispose: true);
        // For this provider by name: it sets a filter of its own for everything, which others don't override.
        // Why it can't start is said by who starts it.
        builder.Logging.AddFilter<Serilog.Extensions.Logging.SerilogLoggerProvider>("Microsoft.Extensions.Hosting.Internal.Host",
            LogLevel.None);
        // It makes an activity for each request, which nobody reads.
        builder.Logging.AddFilter<Serilog.Extensions.Logging.SerilogLoggerProvider>("Microsoft.AspNetCore.Hosting.Diagnostics",
            LogLevel.None);
        builder.WebHost.UseSockets(o =>
        {
            o.Backlog = 4096;
            // A writer's bytes go to the socket on the thread that has them: one hop less for each write.
            o.UnsafePreferInlineScheduling = true;
            o.MaxWriteBufferSize = SocketMemory.Waiting;
            o.CreateBoundListenSocket = SocketMemory.Listen;
        });
        builder.WebHost.ConfigureKestrel(o =>
        {
            o.AddServerHeader = false;
            o.Limits.MaxRequestBodySize = options.MaxBodyBytes;
            o.Limits.MaxRequestHeadersTotalSize = 16 * 1024;
            // Counts only while something waits to be read.
            o.Limits.MinResponseDataRate = new Microsoft.AspNetCore.Server.Kestrel.Core.MinDataRate(options.MinReadBytesPerSecond,
                TimeSpan.FromSeconds(5));
            o.Listen(IPAddress.Parse(options.Address), options.Port, listen =>
            {
                listen.Use(listen.ApplicationServices.GetRequiredService<Connections>().Count);
                if (options.Certificate is null) return;
                var certificate = new Certificate(options.Certificate, options.CertificateKey!,
                    listen.ApplicationServices.GetRequiredService<TimeProvider>(),
                    listen.ApplicationServices.GetRequiredService<ILogger<Certificate>>());
                listen.UseHttps(new Microsoft.AspNetCore.Server.Kestrel.Https.TlsHandshakeCallbackOptions
                {
                    OnConnection =
                    _ => ValueTask.FromResult(new SslServerAuthenticationOptions { ServerCertificateContext = certificate.Present })
                });
            });
        });
        builder.ListenToNodes(options);
        builder.ListenForMetrics(options);
        builder.Services.AddRouting();
        builder.Services.Configure<Microsoft.Extensions.Hosting.HostOptions>(o => o.ShutdownTimeout = TimeSpan.FromSeconds(6));
    }

    static Logger Log(RovettOptions options)
    {
        LogEventLevel Level() => Enum.Parse<LogEventLevel>(options.Log, ignoreCase: true);
        var level = new LoggingLevelSwitch(Level());
        options.Changed += () => level.MinimumLevel = Level();
        var log = new LoggerConfiguration().MinimumLevel.ControlledBy(level)
            .MinimumLevel.Override("Microsoft", LogEventLevel.Warning).MinimumLevel.Override("System", LogEventLevel.Warning)
            .MinimumLevel.Override("Yarp", LogEventLevel.Error); // what it can't pass on is answered
        ITextFormatter format = options.LogFormat == "json" ? new RenderedCompactJsonFormatter()
            : new MessageTemplateTextFormatter("{Timestamp:HH:mm:ss.fff} {Level:u4} {Message:lj}{NewLine}{Exception}",
                CultureInfo.InvariantCulture);
        return (options.LogFile is { } file
            ? log.WriteTo.File(format, file, rollingInterval: RollingInterval.Day, fileSizeLimitBytes: LogFileBytes,
                rollOnFileSizeLimit: true,
            retainedFileCountLimit: LogFiles)
            : log.WriteTo.Console(format, standardErrorFromLevel: LogEventLevel.Verbose)).CreateLogger();
    }

    /// <summary>Listens where the other nodes pass requests on.</summary>
    static void ListenToNodes(this WebApplicationBuilder builder, RovettOptions options)
    {
        if (options.NodeUrl is null) return;
        builder.WebHost.ConfigureKestrel(o =>
        {
            var me = o.ApplicationServices.GetRequiredService<NodeIdentity>();
            o.Listen(me.Listen, me.Url.Port, listen =>
            {
                listen.Protocols = me.Certificate is null ? Microsoft.AspNetCore.Server.Kestrel.Core.HttpProtocols.Http1
                    : Microsoft.AspNetCore.Server.Kestrel.Core.HttpProtocols.Http1AndHttp2;
                listen.Use(listen.ApplicationServices.GetRequiredService<NodeDoor>().Mark);
                if (me.Certificate is { } certificate) listen.UseHttps(certificate);
            });
        });
    }
}
