using System.Globalization;
using System.Text;
using Confluent.Kafka;
using Rovett.Service.Diagnostics;
using Rovett.Service.Events;

namespace Rovett.Service.Intakes.Kafka;

/// <summary>Reads the partitions that the consumer group gives it, each from where the ledger says that it is read to. The group's own
/// offsets are told too, for whoever looks there.</summary>
sealed class KafkaSource(KafkaKind kind, Inlet inlet) : IIntakeSource
{
    static readonly TimeSpan Wait = TimeSpan.FromMilliseconds(200);

    readonly Every counting = new(TimeSpan.FromSeconds(1), inlet.Clock);

    readonly Dictionary<TopicPartition, long> read = [];
    IReadOnlyDictionary<string, string> places = new Dictionary<string, string>();
    IConsumer<byte[]?, byte[]?>? consumer;
    string? failure;

    public async Task Run(CancellationToken drain)
    {
        places = await inlet.Places();
        // The library's reading blocks: it has a thread of its own.
        await Task.Factory.StartNew(() => Consume(drain), drain, TaskCreationOptions.LongRunning, TaskScheduler.Default);
    }

    void Consume(CancellationToken drain)
    {
        consumer = new ConsumerBuilder<byte[]?, byte[]?>(kind.Config())
            .SetPartitionsAssignedHandler((_, given) => [.. given.Select(From)])
            .SetPartitionsRevokedHandler((_, _) => { })
            .SetPartitionsLostHandler((_, _) => { })
            .SetErrorHandler((_, error) => Hear(error))
            .SetLogHandler((_, _) => { })
            .Build();
        consumer.Subscribe(kind.Topics);
        inlet.Progress.Is(IntakeState.Running);
        while (!drain.IsCancellationRequested)
        {
            var batch = Next();
            if (batch.Count > 0) Take(batch);
            else if (failure is { } why) throw new IntakeFailure(why);
            inlet.Progress.HasTold();
            if (counting.IsDue()) Count();
        }
    }

    /// <summary>Where a partition is read from: the ledger knows; the group, where the ledger does not.</summary>
    TopicPartitionOffset From(TopicPartition partition)
    {
        if (read.TryGetValue(partition, out long next)) return new TopicPartitionOffset(partition, next);
        return places.TryGetValue(PartOf(partition), out var stored)
            ? new TopicPartitionOffset(partition, long.Parse(stored, CultureInfo.InvariantCulture))
            : new TopicPartitionOffset(partition, Offset.Unset);
    }

    static string PartOf(TopicPartition partition) =>
        string.Create(CultureInfo.InvariantCulture, $"{partition.Topic}/{partition.Partition.Value}");

    void Hear(Error error)
    {
        bool isAway = error.Code is ErrorCode.Local_AllBrokersDown or ErrorCode.Local_Authentication
            or ErrorCode.TopicAuthorizationFailed;
        if (error.IsFatal || isAway) failure = error.Reason;
    }

    /// <summary>What has come: at least one if there is any within a moment.</summary>
    List<ConsumeResult<byte[]?, byte[]?>> Next()
    {
        var batch = new List<ConsumeResult<byte[]?, byte[]?>>();
        for (var wait = Wait; batch.Count < inlet.Settings.Batch; wait = TimeSpan.Zero)
        {
            if (consumer!.Consume(wait) is not { Message: not null } one) break;
            failure = null;
            batch.Add(one);
        }
        return batch;
    }

    void Take(List<ConsumeResult<byte[]?, byte[]?>> batch)
    {
        inlet.Take([.. batch.Select(Item)]).GetAwaiter().GetResult();
        foreach (var one in batch) read[one.TopicPartition] = one.Offset.Value + 1;
        try
        {
            consumer!.Commit(batch.GroupBy(b => b.TopicPartition).Select(g => new TopicPartitionOffset(g.Key, g.Last().Offset + 1)));
        }
        catch (KafkaException)
        {
            // The ledger has them; the group's are only for who looks there. A partition that went to somebody else is theirs.
        }
    }

    static SourceItem Item(ConsumeResult<byte[]?, byte[]?> one)
    {
        string? type = null;
        var attributes = new List<KeyValuePair<string, string>>();
        foreach (var header in one.Message.Headers)
        {
            var value = Encoding.UTF8.GetString(header.GetValueBytes() ?? []);
            if (header.Key.Equals("content-type", StringComparison.OrdinalIgnoreCase)) type = value;
            else if (header.Key.StartsWith("ce_", StringComparison.OrdinalIgnoreCase))
            {
                attributes.Add(KeyValuePair.Create(header.Key[3..].ToLowerInvariant(), value));
            }
        }
        return new SourceItem(new RawEvent(one.Message.Value ?? []) { ContentType = type, Attributes = attributes })
        {
            Origin = string.Create(CultureInfo.InvariantCulture, $"{PartOf(one.TopicPartition)} {one.Offset.Value}"),
            Part = PartOf(one.TopicPartition),
            Place = () => (one.Offset.Value + 1).ToString(CultureInfo.InvariantCulture),
            Since = one.Message.Timestamp.Type == TimestampType.NotAvailable ? null
                : DateTimeOffset.FromUnixTimeMilliseconds(one.Message.Timestamp.UnixTimestampMs),
        };
    }

    void Count()
    {
        long behind = 0;
        foreach (var partition in consumer!.Assignment)
        {
            long end = consumer.GetWatermarkOffsets(partition).High.Value, at = consumer.Position(partition).Value;
            if (end > 0 && at >= 0) behind += Math.Max(0, end - at);
        }
        inlet.Progress.HasBehind(behind);
    }

    public Task<IReadOnlyList<string>> Test(CancellationToken stop) => Task.Run<IReadOnlyList<string>>(() =>
    {
        using var admin = new AdminClientBuilder(kind.Config()).SetLogHandler((_, _) => { }).Build();
        var found = new List<string>();
        foreach (var topic in kind.Topics)
        {
            var metadata = admin.GetMetadata(topic, TimeSpan.FromSeconds(8));
            if (found.Count == 0)
            {
                found.Add($"connected to {metadata.OriginatingBrokerName.Split('/')[0]}, {metadata.Brokers.Count} brokers");
            }
            var one = metadata.Topics.Single();
            if (one.Error.IsError) throw new IntakeFailure($"the topic {topic} can't be read: {one.Error.Reason}");
            found.Add($"{topic} has {one.Partitions.Count} {(one.Partitions.Count == 1 ? "partition" : "partitions")}");
        }
        return found;
    }, stop);

    public bool IsFailure(Exception error) => error is KafkaException;

    public ValueTask DisposeAsync()
    {
        try
        {
            consumer?.Close(); // leaves the group: others need not wait for its time-out
        }
        catch (KafkaException)
        {
            // The brokers are away.
        }
        consumer?.Dispose();
        return default;
    }
}
