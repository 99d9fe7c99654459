using RabbitMQ.Client;

namespace Rovett.Service.Intakes.RabbitMq;

/// <summary>A queue of RabbitMQ (AMQP 0-9-1), with the AMQP binding of CloudEvents.</summary>
public sealed record RabbitMqKind : IIntakeKind
{
    /// <summary>The broker: <c>amqp://host:5672/vhost</c>, or <c>amqps:</c> with TLS.</summary>
    public required Uri Url { get; init; }
    /// <summary>The user.</summary>
    public string User { get; init; } = "guest";
    /// <summary>The user's password.</summary>
    public Secret? Password { get; init; }
    /// <summary>The queue.</summary>
    public required string Queue { get; init; }
    /// <summary>Whether the queue is declared, durable, when it is not there.</summary>
    public bool Declares { get; init; }
    /// <summary>Whether what is no event is rejected, for the broker's dead-letter exchange, and not set aside here.</summary>
    public bool DeadLetters { get; init; }

    /// <inheritdoc/>
    public string Word => "rabbitmq";

    /// <inheritdoc/>
    public string From => $"{Url.Host}:{Port}{(Url.AbsolutePath.Length > 1 ? Url.AbsolutePath : "")} {Queue}";

    int Port => Url.IsDefaultPort || Url.Port < 0 ? Url.Scheme == "amqps" ? 5671 : 5672 : Url.Port;

    /// <inheritdoc/>
    public bool NeedsRepeats => true;

    /// <inheritdoc/>
    public IIntakeSource Open(Inlet inlet) => new RabbitMqSource(this, inlet);

    /// <summary>Reads its settings.</summary>
    public static RabbitMqKind? Read(IntakeFields fields)
    {
        var text = fields.Text("url");
        bool isUrl = Uri.TryCreate(text, UriKind.Absolute, out var url) && url.Scheme is "amqp" or "amqps";
        if (text.Length > 0 && !isUrl) fields.Wrong("url", "must be such as amqp://broker:5672/vhost, or amqps://… with TLS");
        else if (url is { UserInfo.Length: > 0 }) fields.Wrong("url", "has a user in it; write 'user' and 'password'");
        var kind = new RabbitMqKind
        {
            Url = isUrl ? url! : new Uri("amqp://localhost"),
            User = fields.Text("user", "guest"),
            Password = fields.Secret("password"),
            Queue = fields.Text("queue"),
            Declares = fields.Flag("declare"),
            DeadLetters = fields.OneOf("refused", "set-aside", "set-aside", "dead-letter") == "dead-letter",
        };
        return kind;
    }

    internal ConnectionFactory Factory() => new()
    {
        HostName = Url.Host,
        Port = Port,
        VirtualHost = Url.AbsolutePath.Length > 1 ? Uri.UnescapeDataString(Url.AbsolutePath[1..]) : "/",
        UserName = User,
        Password = Password?.Read() ?? "guest",
        Ssl = new SslOption { Enabled = Url.Scheme == "amqps", ServerName = Url.Host },
        AutomaticRecoveryEnabled = false, // the intake connects again itself, and tells of it
        RequestedHeartbeat = TimeSpan.FromSeconds(10),
        RequestedConnectionTimeout = TimeSpan.FromSeconds(10),
        ContinuationTimeout = TimeSpan.FromSeconds(10),
        ClientProvidedName = "rovett",
    };
}
