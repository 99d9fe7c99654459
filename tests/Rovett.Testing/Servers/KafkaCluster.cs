using Confluent.Kafka;

namespace Rovett.Testing.Servers;

/// <summary>Brokers that the client library plays, in this process, on loopback: no real ones, and they can't be killed.</summary>
public sealed class KafkaCluster : IDisposable
{
    readonly IProducer<Null, Null> host;

    public KafkaCluster()
    {
        var config = new ProducerConfig();
        config.Set("test.mock.num.brokers", "3");
        host = new ProducerBuilder<Null, Null>(config).SetLogHandler((_, _) => { }).Build();
        using var admin = new DependentAdminClientBuilder(host.Handle).Build();
        Servers = string.Join(',', admin.GetMetadata(TimeSpan.FromSeconds(10)).Brokers.Select(b => $"{b.Host}:{b.Port}"));
    }

    /// <summary>Their addresses.</summary>
    public string Servers { get; }

    public void Dispose() => host.Dispose();
}
