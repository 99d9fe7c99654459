using Rovett.Core.Notifications;

namespace Rovett.Service.Options;

/// <summary>The service's configuration, with defaults. Read from a YAML file, then the environment
/// (<c>ROVETT_PORT</c> …), then flags; later ones win. Validated as a whole at start.</summary>
public sealed class RovettOptions
{
    /// <summary>Data folder, created if missing.</summary>
    public string Data { get; set; } = "data";

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

    /// <summary>PEM file with the certificate and its chain: enables TLS and HTTP/2. Renewals are picked up
    /// within half a minute.</summary>
    public string? Certificate { get; set; }

    /// <summary>PEM file with the certificate's private key.</summary>
    public string? CertificateKey { get; set; }

    /// <summary>File that receives the URL and, on the first start, the credentials (mode 0600), once the service
    /// listens.</summary>
    public string? ReadyFile { get; set; }

    /// <summary>Spaces besides <c>main</c>, created at start with their own credentials.</summary>
    public List<string> Spaces { get; set; } = [];

    /// <summary>Browser origins that may connect, exactly as browsers write them: <c>https://app.example</c>. The
    /// service's own is always allowed.</summary>
    public List<string> Origins { get; set; } = [];

    /// <summary>File of intakes: where events are taken from, beside the requests of backends.</summary>
    public string? Intakes { get; set; }

    /// <summary>How far back new members of a role see: <c>7d</c>, <c>12h</c>, or <c>now</c>.</summary>
    public string Newcomers { get; set; } = "7d";

    /// <summary>Refuse sends to unknown users and roles.</summary>
    public bool StrictAddresses { get; set; }

    /// <summary>Where a user's roles come from: <c>both</c> the newest token and the directory, <c>token</c>, or
    /// <c>directory</c>.</summary>
    public string RolesFrom { get; set; } = "both";

    /// <summary>How long entries are stored: <c>90d</c>; <c>always</c> keeps them for good.</summary>
    public string KeepFor { get; set; } = "always";

    /// <summary>How many entries a space stores at most; 0: any number.</summary>
    public int KeepCount { get; set; }

    /// <summary>Types of notifications whose receipts are kept for each person, with device and time: exact, or ending
    /// in <c>*</c>.</summary>
    public List<string> FullReceipts { get; set; } = [];

    /// <summary>Types of notifications of which no receipts are kept at all: exact, or ending in <c>*</c>.</summary>
    public List<string> NoReceipts { get; set; } = [];

    /// <summary>After a start, no deadline is found missed before so many seconds: sessions are still coming back.</summary>
    public int ReconnectWindowSeconds { get; set; } = 30;

    /// <summary>Private networks that webhooks may reach, such as <c>10.1.0.0/16</c> or <c>127.0.0.1/32</c>; none by
    /// default. A plain http address is only taken there.</summary>
    public List<string> WebhookNetworks { get; set; } = [];

    /// <summary>How much of the newest entries of all spaces stays in memory, ready to be sent, in MiB.</summary>
    public int RecentMebibytes { get; set; } = 64;

    /// <summary>The largest request body, in bytes.</summary>
    public int MaxBodyBytes { get; set; } = 256 * 1024;

    /// <summary>The largest message from a device, in bytes.</summary>
    public int MaxMessageBytes { get; set; } = 64 * 1024;

    /// <summary>The most connections, whatever is said on them; fewer when the process may not open so many files.</summary>
    public int MaxConnections { get; set; } = 100_000;

    /// <summary>An answer that is read more slowly than this ends with its connection, in bytes a second; live streams
    /// have bounds of their own.</summary>
    public int MinReadBytesPerSecond { get; set; } = 1000;

    /// <summary>A WebSocket that connects without a credential must show one within so many seconds.</summary>
    public int HandshakeSeconds { get; set; } = 5;

    /// <summary>How many WebSockets may be waited for so at a time.</summary>
    public int MaxUnauthenticated { get; set; } = 200;

    /// <summary>Sends that one API key may make a second; 0: any number. A space may say otherwise.</summary>
    public int SendsPerSecond { get; set; }

    /// <summary>Sessions that one user may have at a time; 0: any number. A space may say otherwise.</summary>
    public int SessionsPerUser { get; set; } = 100;

    /// <summary>Sessions that one network address may have at a time; 0: any number, because behind a proxy that is not
    /// trusted all come from one.</summary>
    public int SessionsPerAddress { get; set; }

    /// <summary>Messages that one session may send a second; more are read later. 0: any number.</summary>
    public int MessagesPerSecond { get; set; } = 200;

    /// <summary>Topics that one session may have subscribed to at a time.</summary>
    public int TopicsPerSession { get; set; } = 100;

    /// <summary>Topics that one user may follow.</summary>
    public int TopicsPerUser { get; set; } = 1000;

    /// <summary>Networks of proxies whose <c>X-Forwarded-For</c> is believed: <c>127.0.0.1/32</c>; none by default.</summary>
    public List<string> TrustedProxies { get; set; } = [];

    /// <summary>Users who return within so many seconds were not away: others see neither a departure nor an arrival.</summary>
    public int PresenceGraceSeconds { get; set; } = 10;

    /// <summary>How many notifications may be unacknowledged before a device is no longer fed.</summary>
    public int Window { get; set; } = 256;

    /// <summary>Sends carried out at a time; a burst of more waits its turn, and when it lasts the rest is refused with 503. While
    /// several spaces send, one has a tenth of them at most.</summary>
    public int SendsAtOnce { get; set; } = 80;

    /// <summary>When the store can't keep up, a send that would wait longer than this is refused with 503; in milliseconds.</summary>
    public int MaxSendWaitMs { get; set; } = 250;

    /// <summary>A sign of life is written when nothing else was for so many seconds.</summary>
    public int HeartbeatSeconds { get; set; } = 20;

    /// <summary>An outstanding acknowledgement is asked for after so many seconds.</summary>
    public int AckTimeoutSeconds { get; set; } = 10;

    /// <summary>How long sessions are given to come back in after a stop, in milliseconds: they spread over it.</summary>
    public int ComeBackWithinMs { get; set; } = 3000;

    /// <summary>What is written to the log: <c>verbose</c>, <c>information</c>, <c>warning</c> or <c>error</c>.</summary>
    public string Log { get; set; } = "information";

    /// <summary><see cref="KeepFor"/> as a time; null: for good.</summary>
    public TimeSpan? KeepForSpan => KeepFor != "always" && Durations.TryParse(KeepFor, out var span) ? span : null;

    /// <summary>For how long the service may have been stopped without retention waiting for a confirmation of the
    /// clock: a tenth of what is kept,
    /// from 10 minutes to a day; null: nothing is trimmed by age.</summary>
    public TimeSpan? PlausibleAbsence => KeepForSpan is { } keep
        ? TimeSpan.FromTicks(Math.Clamp(keep.Ticks / 10, TimeSpan.FromMinutes(10).Ticks, TimeSpan.FromDays(1).Ticks))
        : null;

    /// <summary>The receipts kept of a type.</summary>
    public ReceiptLevel ReceiptsOf(string type) =>
        Names(NoReceipts, type) ? ReceiptLevel.None : Names(FullReceipts, type) ? ReceiptLevel.Full : ReceiptLevel.Totals;

    static bool Names(List<string> patterns, string type) =>
        patterns.Exists(p => p.EndsWith('*') ? type.StartsWith(p[..^1], StringComparison.Ordinal) : p == type);

    /// <summary>The look-back of <see cref="Newcomers"/>; zero for <c>now</c>.</summary>
    public TimeSpan NewcomersLookBack => Durations.TryParse(Newcomers, out var span) ? span : TimeSpan.FromDays(7);
}
