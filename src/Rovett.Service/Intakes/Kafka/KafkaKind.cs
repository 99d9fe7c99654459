using Confluent.Kafka;

namespace Rovett.Service.Intakes.Kafka;

/// <summary>Topics of Kafka, with the Kafka binding of CloudEvents.</summary>
public sealed record KafkaKind : IIntakeKind
{
    /// <summary>Brokers to begin with: host and port each.</summary>
    public required IReadOnlyList<string> Servers { get; init; }
    /// <summary>The topics.</summary>
    public required IReadOnlyList<string> Topics { get; init; }
    /// <summary>The consumer group.</summary>
    public string Group { get; init; } = "rovett";
    /// <summary>The user, for SASL; null: none.</summary>
    public string? User { get; init; }
    /// <summary>The user's password.</summary>
    public Secret? Password { get; init; }
    /// <summary>How the user proves itself: <c>plain</c>, <c>scram-256</c>, <c>scram-512</c>.</summary>
    public string Mechanism { get; init; } = "scram-512";
    /// <summary>Whether the connection is encrypted.</summary>
    public bool Tls { get; init; }
    /// <summary>Whether a partition that is new here is read from its start, or from what comes next.</summary>
    public bool FromStart { get; init; } = true;

    /// <inheritdoc/>
    public string Word => "kafka";

    /// <inheritdoc/>
    public string From => $"{string.Join(",", Servers)} {string.Join(", ", Topics)}";

    /// <inheritdoc/>
    public bool NeedsRepeats => false;

    /// <inheritdoc/>
    public IIntakeSource Open(Inlet inlet) => new KafkaSource(this, inlet);

    /// <summary>Reads its settings.</summary>
    public static KafkaKind Read(IntakeFields fields)
    {
        var kind = new KafkaKind
        {
            Servers = fields.Servers("servers", "kafka-1.internal:9092"),
            Topics = fields.Texts("topics", isNeeded: true),
            Group = fields.Text("group", "rovett"),
            User = fields.TextOrNone("user"),
            Password = fields.Secret("password"),
            Mechanism = fields.OneOf("mechanism", "scram-512", "plain", "scram-256", "scram-512"),
            Tls = fields.Flag("tls"),
            FromStart = fields.OneOf("begin", "start", "start", "now") == "start",
        };
        if ((kind.User is null) != (kind.Password is null)) fields.Wrong(null, "has 'user' or 'password' alone; both are needed, or none");
        return kind;
    }

    internal ConsumerConfig Config() => new()
    {
        BootstrapServers = string.Join(',', Servers),
        GroupId = Group,
        ClientId = "rovett",
        EnableAutoCommit = false,
        EnableAutoOffsetStore = false,
        AutoOffsetReset = FromStart ? AutoOffsetReset.Earliest : AutoOffsetReset.Latest,
        PartitionAssignmentStrategy = PartitionAssignmentStrategy.Range,
        SecurityProtocol = (User is null, Tls) switch
        {
            (true, false) => SecurityProtocol.Plaintext,
            (true, true) => SecurityProtocol.Ssl,
            (false, false) => SecurityProtocol.SaslPlaintext,
            (false, true) => SecurityProtocol.SaslSsl,
        },
        SaslMechanism = User is null ? null : Mechanism switch
        {
            "plain" => SaslMechanism.Plain,
            "scram-256" => SaslMechanism.ScramSha256,
            _ => SaslMechanism.ScramSha512,
        },
        SaslUsername = User,
        SaslPassword = Password?.Read(),
        SocketTimeoutMs = 10_000,
        SessionTimeoutMs = 6000, // so long after a kill the partitions stand still
        MaxPollIntervalMs = 600_000,
        AllowAutoCreateTopics = false,
        TopicMetadataRefreshIntervalMs = 30_000,
        IsolationLevel = IsolationLevel.ReadCommitted,
        LogConnectionClose = false,
    };
}
