using System.Globalization;
using System.Net;
using System.Reflection;
using System.Security.Cryptography;
using Rovett.Core.Addresses;
using Rovett.Service.Spaces;
using Rovett.Service.Tls;
using Rovett.Storage.Homes;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace Rovett.Service.Options;

/// <summary>Reads the options from file, environment and flags, and finds every mistake at once.</summary>
public static class OptionsReader
{
    static readonly Dictionary<string, PropertyInfo> Settings = typeof(RovettOptions).GetProperties().Where(p => p.CanWrite)
        .ToDictionary(p => char.ToLowerInvariant(p.Name[0]) + p.Name[1..]);

    /// <summary>Reads everything.</summary>
    /// <param name="file">A YAML file, or null.</param>
    /// <param name="environment">The environment's variables.</param>
    /// <param name="flags">Settings given on the command line, by name, and how each was written.</param>
    /// <param name="mistakes">Everything wrong, in the order read; empty when the options hold.</param>
    public static RovettOptions Read(string? file, IReadOnlyDictionary<string, string> environment,
        IReadOnlyDictionary<string, string> flags, out IReadOnlyList<OptionsMistake> mistakes) =>
        Read(file, environment, flags, out mistakes, out _);

    /// <summary>Reads everything, and tells where each setting that was given comes from.</summary>
    /// <param name="file">A YAML file, or null.</param>
    /// <param name="environment">The environment's variables.</param>
    /// <param name="flags">Settings given on the command line, by name.</param>
    /// <param name="mistakes">Everything wrong, in the order read; empty when the options hold.</param>
    /// <param name="origins">By a setting's name: the file with its line, the variable or the flag that counts.</param>
    public static RovettOptions Read(string? file, IReadOnlyDictionary<string, string> environment,
        IReadOnlyDictionary<string, string> flags, out IReadOnlyList<OptionsMistake> mistakes,
        out IReadOnlyDictionary<string, string> origins)
    {
        var options = new RovettOptions();
        var found = new List<OptionsMistake>();
        var origin = new Dictionary<string, string>();
        origins = origin;
        if (file is not null) ReadFile(options, file, found, origin);
        foreach (var (name, property) in Settings)
        {
            var variable = VariableOf(name);
            if (environment.TryGetValue(variable, out var value)) Set(options, property, value, variable, found, origin, name);
        }
        foreach (var (name, value) in flags) Set(options, Settings[name], value, "--" + Dashed(name), found, origin, name);
        Validate(options, found, origin);
        mistakes = found;
        return options;
    }

    /// <summary>The settings, by name, in their order.</summary>
    public static IReadOnlyDictionary<string, PropertyInfo> All => Settings;

    /// <summary>The environment's variable of a setting: <c>ROVETT_KEEP_FOR</c>.</summary>
    public static string VariableOf(string name) =>
        "ROVETT_" + string.Concat(name.Select(c => char.IsUpper(c) ? "_" + c : char.ToUpperInvariant(c).ToString()));

    static void ReadFile(RovettOptions options, string file, List<OptionsMistake> found, Dictionary<string, string> origin)
    {
        var yaml = new YamlStream();
        try
        {
            using var text = new StreamReader(file);
            yaml.Load(text);
        }
        catch (YamlException error)
        {
            found.Add(new OptionsMistake($"{file}:{error.Start.Line}", $"is not YAML: {error.InnerException?.Message ?? error.Message}"));
            return;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            found.Add(new OptionsMistake(file, $"can't be read: {error.Message} Check the path after --config."));
            return;
        }
        if (yaml.Documents.Count == 0) return;
        if (yaml.Documents[0].RootNode is not YamlMappingNode root)
        {
            found.Add(new OptionsMistake($"{file}:1", "must be a mapping of settings, such as 'port: 7411'"));
            return;
        }
        foreach (var (keyNode, valueNode) in root.Children)
        {
            var name = ((YamlScalarNode)keyNode).Value ?? "";
            var where = $"{file}:{keyNode.Start.Line}";
            if (!Settings.TryGetValue(name, out var property))
            {
                var near = NearNames.Among(Settings.Keys, name).FirstOrDefault();
                found.Add(new OptionsMistake(where,
                    $"'{name}' is not a setting{(near is null ? "; see rovett serve --help" : $"; did you mean '{near}'?")}"));
                continue;
            }
            switch (valueNode)
            {
                case YamlScalarNode scalar: Set(options, property, scalar.Value ?? "", where, found, origin, name); break;
                case YamlSequenceNode sequence when property.PropertyType == typeof(List<string>):
                    property.SetValue(options, sequence.Children.Select(c => (c as YamlScalarNode)?.Value ?? "").ToList());
                    origin[name] = where;
                    break;
                default: found.Add(new OptionsMistake(where, $"'{name}' must be {Expected(property)}")); break;
            }
        }
    }

    static void Set(RovettOptions options, PropertyInfo property, string value, string where, List<OptionsMistake> found,
        Dictionary<string, string> origin, string name)
    {
        origin[name] = where;
        object? parsed = property.PropertyType == typeof(string) ? value
            : property.PropertyType == typeof(int)
            ? int.TryParse(value, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out int number) ? number : null
            : property.PropertyType == typeof(bool) ? value is "true" or "false" ? value == "true" : null
            : value.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).ToList();
        if (parsed is null) found.Add(new OptionsMistake(where, $"'{name}' must be {Expected(property)}, not '{value}'"));
        else property.SetValue(options, parsed);
    }

    static string? CertificateMistake(string file, string keyFile)
    {
        try
        {
            Certificate.Read(file, keyFile);
            return null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or CryptographicException)
        {
            return $"'{file}' with '{keyFile}' can't be read: {error.Message} " +
                "Both must be PEM files, the key that of the first certificate";
        }
    }

    static string? LogFileMistake(string file)
    {
        try
        {
            var folder = Path.GetDirectoryName(Path.GetFullPath(file));
            return folder is null ? $"'{file}' is a folder; name a file in it"
                : Directory.Exists(folder) ? null : $"the folder of '{file}' is not there; create it, writable for the service";
        }
        catch (Exception error) when (error is ArgumentException or IOException or NotSupportedException)
        {
            return $"'{file}' is not a path: {error.Message}";
        }
    }

    static string Expected(PropertyInfo property) => property.PropertyType == typeof(int) ? "a whole number"
        : property.PropertyType == typeof(bool) ? "true or false"
        : property.PropertyType == typeof(string) ? "a text" : "a list";

    static void Validate(RovettOptions o, List<OptionsMistake> found, Dictionary<string, string> origin)
    {
        void Check(bool holds, string name, string what)
        {
            var where = origin.GetValueOrDefault(name, name);
            if (!holds && !found.Exists(m => m.Where == where)) found.Add(new OptionsMistake(where, what));
        }
        void Between(int value, string name, int low, int high) =>
            Check(value >= low && value <= high, name, $"'{name}' is {value}; give {low} to {high}");
        Check(o.Data.Length > 0, "data", "'data' is empty; name a folder");
        Check(IPAddress.TryParse(o.Address, out _), "address",
            $"'{o.Address}' is not an IP address; give one such as 127.0.0.1 or 0.0.0.0");
        Between(o.Port, "port", 0, 65535);
        Check(o.Metrics == "off" || o.MetricsEndPoint is not null, "metrics",
            $"'{o.Metrics}' is no port; give one such as 7413, an address with a port such as 10.0.0.5:7413, or off");
        Check(o.MetricsEndPoint is not { Port: > 0 } at || at.Port != o.Port, "metrics",
            $"'metrics' is the service's own port {o.Port}; give another, or off");
        Check(o.Otlp is null || (Uri.TryCreate(o.Otlp, UriKind.Absolute, out var otlp) && otlp.Scheme is "http" or "https"), "otlp",
            $"'{o.Otlp}' is not the address of a collector; give one such as http://localhost:4318");
        Between(o.TracesPerThousand, "tracesPerThousand", 0, 1000);
        Check(o.TracesPerThousand == 0 || o.Otlp is not null, "tracesPerThousand", "'tracesPerThousand' needs 'otlp', where traces are " +
            "pushed to");
        Check(o.OtlpProtocol is "http/protobuf" or "grpc", "otlpProtocol",
            $"'{o.OtlpProtocol}' is not a protocol; give http/protobuf or grpc");
        Check(o.Certificate is null == o.CertificateKey is null, o.Certificate is null ? "certificateKey" : "certificate",
            "certificate and certificateKey go together; give both, or neither");
        if (o.Certificate is not null && o.CertificateKey is not null && CertificateMistake(o.Certificate, o.CertificateKey) is { } mistake)
        {
            Check(false, "certificate", mistake);
        }
        Between(o.RecentMebibytes, "recentMebibytes", 1, 16_384);
        Between(o.MaxBodyBytes, "maxBodyBytes", 1024, 16 << 20);
        Between(o.MaxMessageBytes, "maxMessageBytes", 1024, 1 << 20);
        Between(o.SendsPerSecond, "sendsPerSecond", 0, 1_000_000);
        Between(o.SessionsPerUser, "sessionsPerUser", 0, 1_000_000);
        Between(o.SessionsPerAddress, "sessionsPerAddress", 0, 1_000_000);
        Between(o.MessagesPerSecond, "messagesPerSecond", 0, 1_000_000);
        Between(o.TopicsPerSession, "topicsPerSession", 0, 10_000);
        Between(o.TopicsPerUser, "topicsPerUser", 0, 10_000);
        foreach (var network in o.TrustedProxies)
        {
            Check(IPNetwork.TryParse(network, out _), "trustedProxies",
                $"'{network}' is not a network; write the address and the length of its prefix: 10.1.0.0/16");
        }
        Check(o.Backups is null || o.Database is null, "backups",
            "'backups' is for a data folder; PostgreSQL has its own (see docs/operating.md)");
        Check(o.Backups is null || (o.Backups.Length > 0 && Path.GetFullPath(o.Backups) != Path.GetFullPath(o.Data)), "backups",
            "'backups' is the data folder itself or empty; name another folder, best on another disk");
        Check(Durations.TryParse(o.BackupEvery, out var every) && every >= TimeSpan.FromMinutes(1) && every <= TimeSpan.FromDays(366),
            "backupEvery", $"'{o.BackupEvery}' is not how often; give a number with m, h or d such as 1d, up to 366d");
        Between(o.BackupsKept, "backupsKept", 1, 10_000);
        if (o.Database is { } database)
        {
            // What is wrong is told without the text, which may have a password.
            Check(PostgresHome.Mistake(database) is null, "database",
                $"{PostgresHome.Mistake(database)}; give it as Host=db.internal;Database=rovett;Username=rovett");
        }
        if (o.NodeUrl is { } node)
        {
            Check(NodeIdentity.UrlMistake(node) is null, "nodeUrl", NodeIdentity.UrlMistake(node)!);
            Check(o.Database is not null, "nodeUrl", "'nodeUrl' needs a 'database' that the nodes share; a data folder has one service");
            Check(o.ClusterSecretFile is not null, "nodeUrl",
                "'nodeUrl' needs 'clusterSecretFile'; make one with: openssl rand -hex 32 > cluster-secret");
        }
        if (o.ClusterSecretFile is { } secret)
        {
            Check(o.NodeUrl is not null, "clusterSecretFile",
                "'clusterSecretFile' needs 'nodeUrl', where the other nodes reach this one");
            Check(NodeIdentity.Mistake(secret) is null, "clusterSecretFile", NodeIdentity.Mistake(secret)!);
        }
        Between(o.HandshakeSeconds, "handshakeSeconds", 1, 60);
        Between(o.MaxUnauthenticated, "maxUnauthenticated", 0, 100_000);
        Between(o.MaxConnections, "maxConnections", 10, 10_000_000);
        Between(o.MinReadBytesPerSecond, "minReadBytesPerSecond", 1, 1_000_000);
        Between(o.Window, "window", 1, 4096);
        Between(o.HeartbeatSeconds, "heartbeatSeconds", 1, 600);
        Between(o.AckTimeoutSeconds, "ackTimeoutSeconds", 1, 600);
        Between(o.ComeBackWithinMs, "comeBackWithinMs", 0, 600_000);
        Check(Durations.TryParse(o.Newcomers, out _), "newcomers",
            $"'{o.Newcomers}' is not a look-back; give now, or a number with s, m, h or d such as 7d");
        Check(o.RolesFrom is "both" or "token" or "directory", "rolesFrom",
            $"'{o.RolesFrom}' is not a source of roles; give both, token or directory");
        Check(o.KeepFor == "always" || (Durations.TryParse(o.KeepFor, out var keep) && keep >= TimeSpan.FromMinutes(1)), "keepFor",
            $"'{o.KeepFor}' is not a time to keep entries for; give always, or a number with m, h or d such as 90d");
        Check(o.KeepCount is 0 or >= 100, "keepCount", $"'keepCount' is {o.KeepCount}; give 0 for any number, or at least 100");
        Between(o.SendsAtOnce, "sendsAtOnce", 1, 10_000);
        Between(o.DatabaseLanes, "databaseLanes", 1, 32);
        Between(o.MaxSendWaitMs, "maxSendWaitMs", 10, 60_000);
        Between(o.PresenceGraceSeconds, "presenceGraceSeconds", 0, 3600);
        Between(o.ReconnectWindowSeconds, "reconnectWindowSeconds", 0, 3600);
        Check(o.Log is "verbose" or "information" or "warning" or "error", "log",
            $"'{o.Log}' is not a level; give verbose, information, warning or error");
        Check(o.LogFormat is "text" or "json", "logFormat", $"'{o.LogFormat}' is not a format; give text or json");
        Check(o.LogFile is null || LogFileMistake(o.LogFile) is null, "logFile", o.LogFile is null ? "" : LogFileMistake(o.LogFile) ?? "");
        foreach (var allowed in o.Origins)
        {
            Check(SpaceSettings.OriginMistake(allowed) is null, "origins", SpaceSettings.OriginMistake(allowed)!);
        }
        foreach (var network in o.WebhookNetworks)
        {
            Check(IPNetwork.TryParse(network, out _), "webhookNetworks",
                $"'{network}' is not a network; write the address and the length of its prefix: 10.1.0.0/16");
        }
        foreach (var space in o.Spaces)
        {
            Check(Names.CheckForPath(space, out _) is null, "spaces", $"the space name '{space}' {Names.CheckForPath(space, out _)}");
        }
    }

    static string Dashed(string name) => string.Concat(name.Select(c => char.IsUpper(c) ? "-" + char.ToLowerInvariant(c) : c.ToString()));
}
