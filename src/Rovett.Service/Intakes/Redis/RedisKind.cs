using StackExchange.Redis;

namespace Rovett.Service.Intakes.Redis;

/// <summary>Streams of Redis. Events are in the JSON format in the field <c>event</c>, or their attributes are fields beside
/// <c>data</c>.</summary>
public sealed record RedisKind : IIntakeKind
{
    /// <summary>The server: host and port.</summary>
    public required string Server { get; init; }
    /// <summary>The user; null: the default one.</summary>
    public string? User { get; init; }
    /// <summary>The password; null: none is needed.</summary>
    public Secret? Password { get; init; }
    /// <summary>Whether the connection is encrypted.</summary>
    public bool Tls { get; init; }
    /// <summary>The database's number.</summary>
    public int Database { get; init; }
    /// <summary>The streams.</summary>
    public required IReadOnlyList<string> Streams { get; init; }
    /// <summary>Whether a stream that is new here is read from its start, or from what comes next.</summary>
    public bool FromStart { get; init; } = true;

    /// <inheritdoc/>
    public string Word => "redis";

    /// <inheritdoc/>
    public string From => $"{Server} {string.Join(", ", Streams)}";

    /// <inheritdoc/>
    public bool NeedsRepeats => false;

    /// <inheritdoc/>
    public IIntakeSource Open(Inlet inlet) => new RedisSource(this, inlet);

    /// <summary>Reads its settings.</summary>
    public static RedisKind Read(IntakeFields fields)
    {
        var servers = fields.Servers("server", "cache.internal:6379");
        if (servers.Count > 1) fields.Wrong("server", "names several; an intake reads from one");
        return new RedisKind
        {
            Server = servers.Count > 0 ? servers[0] : "",
            User = fields.TextOrNone("user"),
            Password = fields.Secret("password"),
            Tls = fields.Flag("tls"),
            Database = fields.Whole("database", 0, 10_000, 0),
            Streams = fields.Texts("streams", isNeeded: true),
            FromStart = fields.OneOf("begin", "start", "start", "now") == "start",
        };
    }

    internal ConfigurationOptions Options() => new()
    {
        EndPoints = { Server },
        User = User,
        Password = Password?.Read(),
        Ssl = Tls,
        DefaultDatabase = Database,
        AbortOnConnectFail = true,
        ConnectTimeout = 5000,
        ConnectRetry = 1,
        SyncTimeout = 5000,
        AsyncTimeout = 5000,
        ClientName = "rovett",
        BacklogPolicy = BacklogPolicy.FailFast,
    };
}
