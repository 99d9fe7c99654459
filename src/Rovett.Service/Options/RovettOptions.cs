using System.Globalization;
using System.Net;
using Rovett.Core.Notifications;

namespace Rovett.Service.Options;

/// <summary>The service's configuration, with defaults. Read from a YAML file, then the environment (<c>ROVETT_PORT</c> …), then flags;
/// later ones win. Validated as a whole at start. What has <see cref="AtRunTimeAttribute"/> is taken up while the service
/// runs.</summary>
public sealed class RovettOptions
{
    /// <summary>Data folder, created if missing.</summary>
    public string Data { get; set; } = "data";

    /// <summary>Folder to which the service backs up its data folder, each time to a new folder in it; best on another disk. Also before an
    /// upgrade changes the store.</summary>
    public string? Backups { get; set; }

    /// <summary>How often it does: <c>1d</c>, <c>6h</c>.</summary>
    [AtRunTime]
    public string BackupEvery { get; set; } = "1d";

    /// <summary>How many backups are kept.</summary>
    [AtRunTime]
    public int BackupsKept { get; set; } = 7;

    /// <summary>PostgreSQL database (15 or newer) to store everything in, in place of the data folder:
    /// <c>Host=db.internal;Database=rovett;Username=rovett;Passfile=/run/secrets/pgpass</c>.</summary>
    public string? Database { get; set; }

    /// <summary>Connections that write to the database, each for spaces of its own, so that one space's work does not wait for
    /// another's.</summary>
    public int DatabaseLanes { get; set; } = 4;

    /// <summary>Where the other nodes reach this one: <c>https://10.0.0.5:7412</c>. Several services with the same database are nodes of
    /// one cluster: each space is served by one of them, and every one takes every request. Needs <c>database</c> and
    /// <c>clusterSecretFile</c>.</summary>
    public string? NodeUrl { get; set; }

    /// <summary>File with the secret that all nodes share, of 32 bytes or more.</summary>
    public string? ClusterSecretFile { get; set; }

    /// <summary>IP address to listen on. For access from other machines, put a proxy with TLS in front, or
    /// configure a certificate.</summary>
    public string Address { get; set; } = "127.0.0.1";

    /// <summary>TCP port; 0 takes a free one.</summary>
    public int Port { get; set; } = 7411;

    /// <summary>Where metrics are read as Prometheus text (<c>GET /metrics</c>): a port on loopback, <c>address:port</c>, or <c>off</c>;
    /// 0 takes a free port. By default the port two above <c>port</c>. Nobody is asked for a credential there.</summary>
    public string? Metrics { get; set; }

    /// <summary>Collector to which metrics and traces are pushed by OTLP: <c>http://collector:4318</c>. Headers and intervals are set by
    /// the
    /// standard variables <c>OTEL_EXPORTER_OTLP_HEADERS</c> and <c>OTEL_METRIC_EXPORT_INTERVAL</c>.</summary>
    public string? Otlp { get; set; }

    /// <summary>How it is pushed: <c>http/protobuf</c> or <c>grpc</c>.</summary>
    public string OtlpProtocol { get; set; } = "http/protobuf";

    /// <summary>Of a thousand requests, how many are traced and pushed to <c>otlp</c>; one that brings a trace with it
    /// (<c>traceparent</c>) goes by what that says. 0: none.</summary>
    public int TracesPerThousand { get; set; }

    /// <summary>PEM file with the certificate and its chain: enables TLS and HTTP/2. Renewals are picked up
    /// within half a minute.</summary>
    public string? Certificate { get; set; }

    /// <summary>PEM file with the certificate's private key.</summary>
    public string? CertificateKey { get; set; }

    /// <summary>File that receives the URL and, on the first start, the credentials (mode 0600), once the service
    /// listens.</summary>
    public string? ReadyFile { get; set; }

    /// <summary>File that receives the credentials that a start makes (mode 0600): the first one, or the first with another space. A start
    /// that makes none leaves it alone.</summary>
    public string? CredentialsFile { get; set; }

    /// <summary>Spaces besides <c>main</c>, created at start with their own credentials.</summary>
    public List<string> Spaces { get; set; } = [];

    /// <summary>Browser origins that may connect, exactly as browsers write them: <c>https://app.example</c>. The
    /// service's own is always allowed.</summary>
    [AtRunTime]
    public List<string> Origins { get; set; } = [];

    /// <summary>File of intakes: where events are taken from, beside the requests of backends.</summary>
    public string? Intakes { get; set; }

    /// <summary>How far back new members of a role see: <c>7d</c>, <c>12h</c>, or <c>now</c>.</summary>
    [AtRunTime]
    public string Newcomers { get; set; } = "7d";

    /// <summary>Refuse sends to unknown users and roles.</summary>
    [AtRunTime]
    public bool StrictAddresses { get; set; }

    /// <summary>Where a user's roles come from: <c>both</c> the newest token and the directory, <c>token</c>, or
    /// <c>directory</c>.</summary>
    public string RolesFrom { get; set; } = "both";

    /// <summary>How long entries are stored: <c>90d</c>; <c>always</c> keeps them for good.</summary>
    [AtRunTime]
    public string KeepFor { get; set; } = "always";

    /// <summary>How many entries a space stores at most; 0: any number.</summary>
    [AtRunTime]
    public int KeepCount { get; set; }

    /// <summary>Types of notifications whose receipts are kept for each person, with device and time: exact, or ending
    /// in <c>*</c>.</summary>
    [AtRunTime]
    public List<string> FullReceipts { get; set; } = [];

    /// <summary>Types of notifications of which no receipts are kept at all: exact, or ending in <c>*</c>.</summary>
    [AtRunTime]
    public List<string> NoReceipts { get; set; } = [];

    /// <summary>After a start, no deadline is found missed before so many seconds: sessions are still coming back.</summary>
    public int ReconnectWindowSeconds { get; set; } = 30;

    /// <summary>Private networks that webhooks may reach, such as <c>10.1.0.0/16</c> or <c>127.0.0.1/32</c>; none by
    /// default. A plain http address is only taken there.</summary>
    [AtRunTime]
    public List<string> WebhookNetworks { get; set; } = [];

    /// <summary>How much of the newest entries of all spaces stays in memory, ready to be sent, in MiB.</summary>
    public int RecentMebibytes { get; set; } = 64;

    /// <summary>The largest request body, in bytes.</summary>
    public int MaxBodyBytes { get; set; } = 256 * 1024;

    /// <summary>The largest message from a device, in bytes.</summary>
    [AtRunTime]
    public int MaxMessageBytes { get; set; } = 64 * 1024;

    /// <summary>The most connections, whatever is said on them; fewer when the process may not open so many files.</summary>
    [AtRunTime]
    public int MaxConnections { get; set; } = 100_000;

    /// <summary>An answer that is read more slowly than this ends with its connection, in bytes a second; live streams
    /// have bounds of their own.</summary>
    public int MinReadBytesPerSecond { get; set; } = 1000;

    /// <summary>A WebSocket that connects without a credential must show one within so many seconds.</summary>
    [AtRunTime]
    public int HandshakeSeconds { get; set; } = 5;

    /// <summary>How many WebSockets may be waited for so at a time.</summary>
    [AtRunTime]
    public int MaxUnauthenticated { get; set; } = 200;

    /// <summary>Sends that one API key may make a second; 0: any number. A space may say otherwise.</summary>
    [AtRunTime]
    public int SendsPerSecond { get; set; }

    /// <summary>Sessions that one user may have at a time; 0: any number. A space may say otherwise.</summary>
    [AtRunTime]
    public int SessionsPerUser { get; set; } = 100;

    /// <summary>Sessions that one network address may have at a time; 0: any number, because behind a proxy that is not
    /// trusted all come from one.</summary>
    [AtRunTime]
    public int SessionsPerAddress { get; set; }

    /// <summary>Messages that one session may send a second; more are read later. 0: any number.</summary>
    [AtRunTime]
    public int MessagesPerSecond { get; set; } = 200;

    /// <summary>Topics that one session may have subscribed to at a time.</summary>
    [AtRunTime]
    public int TopicsPerSession { get; set; } = 100;

    /// <summary>Topics that one user may follow.</summary>
    [AtRunTime]
    public int TopicsPerUser { get; set; } = 1000;

    /// <summary>Networks of proxies whose <c>X-Forwarded-For</c> is believed: <c>127.0.0.1/32</c>; none by default.</summary>
    public List<string> TrustedProxies { get; set; } = [];

    /// <summary>Users who return within so many seconds were not away: others see neither a departure nor an arrival.</summary>
    [AtRunTime]
    public int PresenceGraceSeconds { get; set; } = 10;

    /// <summary>How many notifications may be unacknowledged before a device is no longer fed.</summary>
    public int Window { get; set; } = 256;

    /// <summary>Sends carried out at a time; a burst of more waits its turn, and when it lasts the rest is refused with 503. While
    /// several spaces send, one has a tenth of them at most.</summary>
    [AtRunTime]
    public int SendsAtOnce { get; set; } = 80;

    /// <summary>When the store can't keep up, a send that would wait longer than this is refused with 503; in milliseconds.</summary>
    public int MaxSendWaitMs { get; set; } = 250;

    /// <summary>A sign of life is written when nothing else was for so many seconds.</summary>
    public int HeartbeatSeconds { get; set; } = 20;

    /// <summary>An outstanding acknowledgement is asked for after so many seconds.</summary>
    public int AckTimeoutSeconds { get; set; } = 10;

    /// <summary>How long sessions are given to come back in after a stop, in milliseconds: they spread over it.</summary>
    [AtRunTime]
    public int ComeBackWithinMs { get; set; } = 3000;

    /// <summary>What is written to the log: <c>verbose</c>, <c>information</c>, <c>warning</c> or <c>error</c>.</summary>
    [AtRunTime]
    public string Log { get; set; } = "information";

    /// <summary>How it is written: <c>text</c>, or <c>json</c> with a line of JSON for each message.</summary>
    public string LogFormat { get; set; } = "text";

    /// <summary>File to write the log to, in place of the standard error stream: a new one each day and every 100 MiB, of which the last
    /// 14 are kept.</summary>
    public string? LogFile { get; set; }

    /// <summary><see cref="Metrics"/> as an address and port; null: off, or not readable.</summary>
    public IPEndPoint? MetricsEndPoint => Metrics switch
    {
        null => new IPEndPoint(IPAddress.Loopback, Port is > 0 and < ushort.MaxValue - 1 ? Port + 2 : 0),
        "off" => null,
        _ when ushort.TryParse(Metrics, NumberStyles.None, CultureInfo.InvariantCulture, out ushort port) =>
            new IPEndPoint(IPAddress.Loopback, port),
        _ => Metrics.Contains(':', StringComparison.Ordinal) && IPEndPoint.TryParse(Metrics, out var found) ? found : null,
    };

    /// <summary><see cref="KeepFor"/> as a time; null: for good.</summary>
    public TimeSpan? KeepForSpan => KeepFor != "always" && Durations.TryParse(KeepFor, out var span) ? span : null;

    /// <summary>For how long the service may have been stopped without retention waiting for a confirmation of the
    /// clock: a tenth of what is kept,
    /// from 10 minutes to a day; null: nothing is trimmed by age.</summary>
    public TimeSpan? PlausibleAbsence => KeepForSpan is { } keep
        ? TimeSpan.FromTicks(Math.Clamp(keep.Ticks / 10, TimeSpan.FromMinutes(10).Ticks, TimeSpan.FromDays(1).Ticks))
        : null;

    /// <summary><see cref="BackupEvery"/> as a time.</summary>
    public TimeSpan BackupEverySpan => Durations.TryParse(BackupEvery, out var span) ? span : TimeSpan.FromDays(1);

    /// <summary>The receipts kept of a type.</summary>
    public ReceiptLevel ReceiptsOf(string type) =>
        Names(NoReceipts, type) ? ReceiptLevel.None : Names(FullReceipts, type) ? ReceiptLevel.Full : ReceiptLevel.Totals;

    /// <summary>Raised after settings were taken up from others.</summary>
    internal event Action? Changed;

    /// <summary>Takes up, from others that hold, what can change while the service runs.</summary>
    /// <returns>What differs, by the settings' names.</returns>
    internal IReadOnlyList<OptionChange> TakeUp(RovettOptions others)
    {
        var changes = new List<OptionChange>();
        foreach (var property in typeof(RovettOptions).GetProperties().Where(p => p.CanWrite))
        {
            var (before, after) = (OptionChange.Shown(property.GetValue(this)), OptionChange.Shown(property.GetValue(others)));
            if (before == after) continue;
            bool isTakenUp = property.IsDefined(typeof(AtRunTimeAttribute), inherit: false);
            changes.Add(new OptionChange(char.ToLowerInvariant(property.Name[0]) + property.Name[1..], before, after, isTakenUp));
            if (isTakenUp) property.SetValue(this, property.GetValue(others));
        }
        if (changes.Exists(c => c.IsTakenUp)) Changed?.Invoke();
        return changes;
    }

    static bool Names(List<string> patterns, string type) =>
        patterns.Exists(p => p.EndsWith('*') ? type.StartsWith(p[..^1], StringComparison.Ordinal) : p == type);

    /// <summary>The look-back of <see cref="Newcomers"/>; zero for <c>now</c>.</summary>
    public TimeSpan NewcomersLookBack => Durations.TryParse(Newcomers, out var span) ? span : TimeSpan.FromDays(7);
}
