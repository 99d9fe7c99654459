using Npgsql;

namespace Rovett.Service.Intakes.Outbox;

/// <summary>A table of events in the backend's own PostgreSQL.</summary>
public sealed record OutboxKind : IIntakeKind
{
    /// <summary>The table's name unless it is given another.</summary>
    public const string DefaultTable = "rovett_outbox";

    /// <summary>The host, or the folder of a Unix socket.</summary>
    public required string Host { get; init; }
    /// <summary>The port.</summary>
    public int Port { get; init; } = 5432;
    /// <summary>The database.</summary>
    public required string Database { get; init; }
    /// <summary>The user that connects.</summary>
    public required string User { get; init; }
    /// <summary>The user's password; null: none is needed.</summary>
    public Secret? Password { get; init; }
    /// <summary>Whether the connection is encrypted: <c>disable</c>, <c>prefer</c>, <c>require</c> or <c>verify-full</c>.</summary>
    public string Tls { get; init; } = "prefer";
    /// <summary>The table, with its schema where that is not on the user's search path.</summary>
    public string Table { get; init; } = DefaultTable;
    /// <summary>How long rows stay, marked, once they are taken; zero: they are removed.</summary>
    public TimeSpan Keep { get; init; }
    /// <summary>How often the table is looked at when nobody tells of new rows.</summary>
    public TimeSpan Poll { get; init; } = TimeSpan.FromSeconds(1);

    /// <inheritdoc/>
    public string Word => "outbox";

    /// <inheritdoc/>
    public string From => $"{Host}:{Port}/{Database} {Table}";

    /// <inheritdoc/>
    public bool NeedsRepeats => true;

    /// <inheritdoc/>
    public IIntakeSource Open(Inlet inlet) => new OutboxSource(this, inlet);

    /// <summary>Reads its settings.</summary>
    public static OutboxKind Read(IntakeFields fields)
    {
        var kind = new OutboxKind
        {
            Host = fields.Text("host"),
            Port = fields.Whole("port", 1, 65535, 5432),
            Database = fields.Text("database"),
            User = fields.Text("user"),
            Password = fields.Secret("password"),
            Tls = fields.OneOf("tls", "prefer", "disable", "prefer", "require", "verify-full"),
            Table = fields.Text("table", DefaultTable),
            Keep = fields.Span("keep", TimeSpan.Zero, TimeSpan.FromDays(365), TimeSpan.Zero),
            Poll = fields.Span("poll", TimeSpan.FromMilliseconds(100), TimeSpan.FromMinutes(10), TimeSpan.FromSeconds(1)),
        };
        if (!OutboxSql.IsName(kind.Table)) fields.Wrong("table", "must be a name such as rovett_outbox or planning.rovett_outbox");
        return kind;
    }

    internal string ConnectionString() => new NpgsqlConnectionStringBuilder
    {
        Host = Host,
        Port = Port,
        Database = Database,
        Username = User,
        Password = Password?.Read(),
        SslMode = Tls switch
        {
            "disable" => SslMode.Disable,
            "require" => SslMode.Require,
            "verify-full" => SslMode.VerifyFull,
            _ => SslMode.Prefer,
        },
        Pooling = false,
        Timeout = 10,
        CommandTimeout = 30,
        KeepAlive = 10,
        ApplicationName = "rovett",
        Multiplexing = false,
        TargetSessionAttributes = Host.Contains(',', StringComparison.Ordinal) ? "read-write" : null,
    }.ConnectionString;
}
