using System.Net.Sockets;
using System.Security.Cryptography;
using System.Text;
using System.Threading.Channels;
using RabbitMQ.Client;
using RabbitMQ.Client.Events;
using RabbitMQ.Client.Exceptions;
using Rovett.Service.Diagnostics;
using Rovett.Service.Events;

namespace Rovett.Service.Intakes.RabbitMq;

/// <summary>Takes the messages of a queue, and acknowledges them once what came of them is on disk. The prefetch is the bound of what is
/// under way.</summary>
sealed class RabbitMqSource(RabbitMqKind kind, Inlet inlet) : IIntakeSource
{
    const string Prefix = "cloudEvents";
    static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(2), CloseWithin = TimeSpan.FromSeconds(5);

    readonly Channel<BasicDeliverEventArgs> came = Channel.CreateUnbounded<BasicDeliverEventArgs>();
    readonly Every counting = new(TimeSpan.FromMilliseconds(250), inlet.Clock);
    IConnection? connection;
    IChannel? channel;
    string? consumer;

    public async Task Run(CancellationToken drain)
    {
        await Connect(drain);
        await channel!.BasicQosAsync(0, (ushort)(inlet.Settings.Batch * 2), false, drain);
        channel.ChannelShutdownAsync += (_, why) =>
        {
            came.Writer.TryComplete(why.Initiator == ShutdownInitiator.Application ? null : new IntakeFailure(Said(why)));
            return Task.CompletedTask;
        };
        var consuming = new AsyncEventingBasicConsumer(channel);
        consuming.ReceivedAsync += (_, message) =>
        {
            // Its bytes are the library's only until this returns.
            var kept = new BasicDeliverEventArgs(message.ConsumerTag, message.DeliveryTag, message.Redelivered, message.Exchange,
                message.RoutingKey, message.BasicProperties, message.Body.ToArray());
            came.Writer.TryWrite(kept);
            return Task.CompletedTask;
        };
        consuming.UnregisteredAsync += (_, _) =>
        {
            if (!drain.IsCancellationRequested) came.Writer.TryComplete(new IntakeFailure($"the broker ended the reading of {kind.Queue}"));
            return Task.CompletedTask;
        };
        consumer = await channel.BasicConsumeAsync(kind.Queue, autoAck: false, consuming, drain);
        inlet.Progress.Is(IntakeState.Running);
        while (true)
        {
            inlet.Progress.HasTold();
            await UntilSomeCame(drain);
            var batch = await came.Reader.Next(inlet.Settings.Batch, drain);
            if (batch.Count == 0) throw new IntakeFailure("the connection was closed");
            await Take(batch);
            if (counting.IsDue()) inlet.Progress.HasBehind(await channel.MessageCountAsync(kind.Queue, drain));
        }
    }

    /// <summary>Waits for a message. While none comes the broker is asked now and then how many wait: that it answers shows that the
    /// connection holds, and messages that wait although nothing stands in their way must come.</summary>
    async Task UntilSomeCame(CancellationToken drain)
    {
        if (came.Reader.TryPeek(out _)) return;
        var coming = came.Reader.WaitToReadAsync(drain).AsTask();
        for (uint? before = null; !await coming.IsWithin(LookEvery, inlet.Clock);)
        {
            uint now = await channel!.MessageCountAsync(kind.Queue, drain);
            inlet.Progress.HasBehind(now);
            if (before > 0 && now > 0 && !coming.IsCompleted)
            {
                throw new IntakeFailure($"{now} messages wait in {kind.Queue}, and the broker delivers none");
            }
            before = now;
        }
    }

    static string Said(ShutdownEventArgs why) => why.ReplyText is { Length: > 0 } text ? text : "the connection was lost";

    async Task Connect(CancellationToken stop)
    {
        connection = await kind.Factory().CreateConnectionAsync(stop);
        channel = await connection.CreateChannelAsync(cancellationToken: stop);
        if (kind.Declares)
        {
            await channel.QueueDeclareAsync(kind.Queue, durable: true, exclusive: false, autoDelete: false, cancellationToken: stop);
        }
        else await channel.QueueDeclarePassiveAsync(kind.Queue, stop);
    }

    async Task Take(List<BasicDeliverEventArgs> batch)
    {
        if (kind.DeadLetters)
        {
            await TakeOrReject(batch);
            return;
        }
        await inlet.Take([.. batch.Select(Item)]);
        await channel!.BasicAckAsync(batch[^1].DeliveryTag, multiple: true);
    }

    /// <summary>What is no event goes to the broker's dead-letter exchange.</summary>
    async Task TakeOrReject(List<BasicDeliverEventArgs> batch)
    {
        var (good, bad) = (new List<BasicDeliverEventArgs>(), new List<BasicDeliverEventArgs>());
        foreach (var message in batch) (inlet.IsEvent(Item(message)) ? good : bad).Add(message);
        if (good.Count > 0) await inlet.Take([.. good.Select(Item)]);
        foreach (var message in bad) await channel!.BasicRejectAsync(message.DeliveryTag, requeue: false);
        inlet.Progress.Dropped(bad.Count);
        if (good.Count > 0) await channel!.BasicAckAsync(good[^1].DeliveryTag, multiple: true);
    }

    SourceItem Item(BasicDeliverEventArgs message)
    {
        var body = message.Body.ToArray();
        var attributes = new List<KeyValuePair<string, string>>();
        foreach (var (name, value) in message.BasicProperties.Headers ?? new Dictionary<string, object?>())
        {
            // The binding's prefix is cloudEvents: or, where a client takes no colon, cloudEvents_.
            if (!name.StartsWith(Prefix, StringComparison.Ordinal) || name.Length <= Prefix.Length) continue;
            if (name[Prefix.Length] is not (':' or '_')) continue;
            attributes.Add(KeyValuePair.Create(name[(Prefix.Length + 1)..].ToLowerInvariant(), Text(value)));
        }
        return new SourceItem(new RawEvent(body) { ContentType = message.BasicProperties.ContentType, Attributes = attributes })
        {
            Origin = $"{message.BasicProperties.MessageId} {Convert.ToHexStringLower(SHA256.HashData(body))}",
            Since = message.BasicProperties.Timestamp is { UnixTime: > 0 } time ? DateTimeOffset.FromUnixTimeSeconds(time.UnixTime) : null,
        };
    }

    static string Text(object? value) => value switch
    {
        byte[] bytes => Encoding.UTF8.GetString(bytes),
        bool flag => flag ? "true" : "false",
        AmqpTimestamp time => DateTimeOffset.FromUnixTimeSeconds(time.UnixTime).ToString("yyyy-MM-dd'T'HH:mm:ss'Z'"),
        IFormattable number => number.ToString(null, System.Globalization.CultureInfo.InvariantCulture),
        _ => value?.ToString() ?? "",
    };

    public async Task<IReadOnlyList<string>> Test(CancellationToken stop)
    {
        await Connect(stop);
        uint waiting = await channel!.MessageCountAsync(kind.Queue, stop), readers = await channel.ConsumerCountAsync(kind.Queue, stop);
        return
        [
            $"connected to {kind.Url.Host} as {kind.User}",
            $"the queue {kind.Queue} has {waiting} messages and {readers} {(readers == 1 ? "reader" : "readers")}",
            .. readers > 1 ? ["more than one reader: messages go to each in turn, and their order is lost"] : Array.Empty<string>(),
        ];
    }

    public bool IsFailure(Exception error) => error is RabbitMQClientException or SocketException or IOException or TimeoutException
        or ObjectDisposedException;

    /// <summary>Ends the connection. That of a broker that says nothing any more ends in its own time, which nobody waits for.</summary>
    public async ValueTask DisposeAsync() => await Close().IsWithin(CloseWithin, inlet.Clock);

    async Task Close()
    {
        try
        {
            if (connection is not null) await connection.CloseAsync(TimeSpan.FromSeconds(2));
        }
        catch (Exception error) when (IsFailure(error) || error is OperationCanceledException)
        {
            // It is closed already.
        }
        try
        {
            if (channel is not null) await channel.DisposeAsync();
            if (connection is not null) await connection.DisposeAsync();
        }
        catch (Exception error) when (IsFailure(error) || error is OperationCanceledException)
        {
            // It was cut while it was closed.
        }
    }
}
