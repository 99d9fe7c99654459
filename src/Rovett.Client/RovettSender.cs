using System.Diagnostics;
using System.Diagnostics.Metrics;
using Polly;
using Polly.Retry;

namespace Rovett.Client;

/// <summary>Sends notifications.</summary>
public interface IRovettSender
{
    /// <summary>Sends a notification. When this returns, it is on disk. Failures are retried and never stored twice.</summary>
    /// <param name="notification">The notification.</param>
    /// <param name="idempotencyKey">Repeats with the same key within 48 h are stored once, from any process;
    /// null: a new key for this call.</param>
    /// <param name="causedBy">The live session of the user who caused it (<c>session</c> of its <c>opened</c>), which
    /// is not told about it; null: none.</param>
    /// <param name="cancel">Ends the attempts.</param>
    /// <exception cref="RovettRefusedException">It was refused, or every retry failed.</exception>
    /// <exception cref="HttpRequestException">The service could not be reached, however often it was tried.</exception>
    Task<SentNotification> Send(Notification notification, string? idempotencyKey = null, string? causedBy = null,
        CancellationToken cancel = default);

    /// <summary>Sends many, several at a time, which the service stores together.</summary>
    /// <param name="notifications">The notifications.</param>
    /// <param name="cancel">Ends it.</param>
    /// <returns>The result of each, in the order given. A refused one does not affect the others.</returns>
    Task<IReadOnlyList<SendOutcome>> SendMany(IEnumerable<Notification> notifications, CancellationToken cancel = default);
}

/// <summary>The result of one of many.</summary>
/// <param name="Notification">The one.</param>
/// <param name="Sent">The answer when it was sent; null: see <paramref name="Error"/>.</param>
/// <param name="Error">Why it was not.</param>
public sealed record SendOutcome(Notification Notification, SentNotification? Sent, Exception? Error);

/// <summary>How to send.</summary>
public sealed class RovettSendOptions
{
    /// <summary>The service's address, such as <c>http://127.0.0.1:7411</c>; with <c>/s/&lt;space&gt;</c> for another
    /// space than main.</summary>
    public Uri? Url { get; set; }
    /// <summary>An API key with the scope <c>send</c>.</summary>
    public string? Key { get; set; }
    /// <summary>How often a send that can't be taken now is tried again; the pauses double from 0.2 s to 10 s, and last
    /// at least as long as the service says.</summary>
    public int Retries { get; set; } = 8;
    /// <summary>How many of <see cref="IRovettSender.SendMany"/> are under way at a time.</summary>
    public int AtOnce { get; set; } = 16;

    /// <exception cref="ArgumentException">The address or the key is missing.</exception>
    internal RovettClient Connect()
    {
        if (Url is null)
        {
            throw new ArgumentException("Url is missing: the service's address, such as http://127.0.0.1:7411.", "options");
        }
        if (string.IsNullOrEmpty(Key))
        {
            throw new ArgumentException("Key is missing: an API key with the scope 'send' (rovett key create).", "options");
        }
        return new RovettClient(Url, Key);
    }

    internal ResiliencePipeline Pipeline() => Retries <= 0 ? ResiliencePipeline.Empty
        : new ResiliencePipelineBuilder().AddRetry(new RetryStrategyOptions
        {
            MaxRetryAttempts = Retries,
            BackoffType = DelayBackoffType.Exponential,
            UseJitter = true,
            Delay = TimeSpan.FromMilliseconds(200),
            MaxDelay = TimeSpan.FromSeconds(10),
            ShouldHandle = static a => ValueTask.FromResult(IsPassing(a.Outcome.Exception, a.Context.CancellationToken)),
            DelayGenerator = static a =>
                ValueTask.FromResult((a.Outcome.Exception as RovettRefusedException)?.RetryAfter is { } wait
                ? wait * (1 + Random.Shared.NextDouble() / 4)
                : (TimeSpan?)null),
            OnRetry = static _ =>
            {
                RovettSender.CountRetry();
                return ValueTask.CompletedTask;
            },
        }).Build();

    static bool IsPassing(Exception? error, CancellationToken cancel) => !cancel.IsCancellationRequested
        && error is HttpRequestException or TaskCanceledException or RovettRefusedException { Status: 429 or 502 or 503 or 504 };
}

/// <summary>Sends over HTTP. Safe to share; one for a process. Traces and measures by the names in <see cref="Telemetry"/>.</summary>
public sealed class RovettSender : IRovettSender, IDisposable
{
    /// <summary>The name of the activity source and of the meter, for OpenTelemetry: <c>AddSource</c>, <c>AddMeter</c>.</summary>
    public const string Telemetry = "Rovett.Client";

    static readonly ActivitySource Activities = new(Telemetry);
    static readonly Meter Meter = new(Telemetry);
    static readonly Histogram<double> Durations = Meter.CreateHistogram<double>("rovett.client.send.duration", "s",
        "How long a send took, with all attempts.");
    static readonly Counter<long> Again = Meter.CreateCounter<long>("rovett.client.send.retries", "{attempt}",
        "Attempts that were made again.");

    internal static void CountRetry() => Again.Add(1);

    readonly RovettClient client;
    readonly ResiliencePipeline pipeline;
    readonly int atOnce;

    /// <summary>Makes one.</summary>
    /// <param name="options">How to send.</param>
    /// <exception cref="ArgumentException">The address or the key is missing.</exception>
    public RovettSender(RovettSendOptions options)
    {
        ArgumentNullException.ThrowIfNull(options);
        client = options.Connect();
        atOnce = Math.Max(1, options.AtOnce);
        pipeline = options.Pipeline();
    }

    /// <inheritdoc/>
    public async Task<SentNotification> Send(Notification notification, string? idempotencyKey = null, string? causedBy = null,
        CancellationToken cancel = default)
    {
        ArgumentNullException.ThrowIfNull(notification);
        using var activity = Activities.StartActivity($"send {notification.Type}", ActivityKind.Producer);
        activity?.SetTag("messaging.system", "rovett").SetTag("messaging.operation.type", "send").SetTag("messaging.operation.name", "send")
            .SetTag("rovett.type", notification.Type);
        var began = Stopwatch.GetTimestamp();
        var outcome = "sent";
        try
        {
            // Made before the first attempt: whatever becomes of its answer, the next one is the same send.
            var key = notification.Store ? idempotencyKey ?? Guid.CreateVersion7().ToString() : null;
            var json = notification.ToJson();
            var sent = await pipeline.ExecuteAsync(
                async stop =>
                SentNotification.From(await client.Call(HttpMethod.Post, "/v1/notifications", json, stop, key, session: causedBy)
                .ConfigureAwait(false)), cancel).ConfigureAwait(false);
            activity?.SetTag("messaging.message.id", sent.Id);
            return sent;
        }
        catch (Exception error)
        {
            outcome = error is RovettRefusedException ? "refused" : error is OperationCanceledException ? "cancelled" : "failed";
            activity?.SetStatus(ActivityStatusCode.Error, error.Message);
            throw;
        }
        finally
        {
            Durations.Record(Stopwatch.GetElapsedTime(began).TotalSeconds, new KeyValuePair<string, object?>("outcome", outcome));
        }
    }

    /// <inheritdoc/>
    public async Task<IReadOnlyList<SendOutcome>> SendMany(IEnumerable<Notification> notifications, CancellationToken cancel = default)
    {
        var all = notifications.ToList();
        var outcomes = new SendOutcome[all.Count];
        await Parallel.ForEachAsync(Enumerable.Range(0, all.Count),
            new ParallelOptions { MaxDegreeOfParallelism = atOnce, CancellationToken = cancel }, async (i, stop) =>
        {
            try
            {
                outcomes[i] = new SendOutcome(all[i], await Send(all[i], cancel: stop).ConfigureAwait(false), null);
            }
            catch (Exception error) when (error is RovettRefusedException or HttpRequestException)
            {
                outcomes[i] = new SendOutcome(all[i], null, error);
            }
        }).ConfigureAwait(false);
        return outcomes;
    }

    /// <inheritdoc/>
    public void Dispose() => client.Dispose();
}
