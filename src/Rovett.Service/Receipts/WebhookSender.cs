using System.Buffers;
using System.Numerics;
using System.Text.Json;
using Rovett.Service.Diagnostics;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Outbound;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;

namespace Rovett.Service.Receipts;

/// <summary>Posts receipts to webhooks, signed by Standard Webhooks 1.0: in order, at least once, tried again until they
/// are taken. How far each is, is stored, so that a restart continues where it was.</summary>
public sealed class WebhookSender : IDisposable
{
    /// <summary>The most acts that one request tells of.</summary>
    public const int MaxRows = 50;
    static readonly TimeSpan StorePause = TimeSpan.FromSeconds(5), LongestPause = TimeSpan.FromHours(1);

    readonly AccessStore access;
    readonly SpaceDirectory spaces;
    readonly ReceiptReader receipts;
    readonly ReceiptNews news;
    readonly TimeProvider clock;
    readonly ILogger log;
    readonly Faults faults;
    readonly WebhookCall webhooks;
    readonly CancellationTokenSource stop = new();
    readonly Dictionary<(string Space, string Name), (long Created, CancellationTokenSource Stop, Task Work)> running = [];
    readonly List<Task> ending = []; // told to stop, and perhaps under way still
    readonly Lock gate = new();

    /// <summary>Begins with what is stored.</summary>
    public WebhookSender(AccessStore access, SpaceDirectory spaces, ReceiptReader receipts, ReceiptNews news, WebhookCall webhooks,
        TimeProvider clock, Faults faults, ILogger<WebhookSender> log)
    {
        (this.access, this.spaces, this.receipts, this.news, this.clock, this.faults, this.log) =
            (access, spaces, receipts, news, clock, faults, log);
        this.webhooks = webhooks;
        Refresh();
    }

    /// <summary>Webhooks were made, changed or removed.</summary>
    public void Refresh()
    {
        lock (gate)
        {
            var stored = access.Webhooks()
                .Where(w => w.Ended is null && w.Purpose == StoredWebhook.ForReceipts && spaces.Find(w.Space) is { IsHere: true })
                .ToDictionary(w => (w.Space, w.Name));
            foreach (var (key, run) in running.ToList())
            {
                if (stored.TryGetValue(key, out var same) && same.Created == run.Created) continue;
                run.Stop.Cancel();
                running.Remove(key);
                ending.RemoveAll(static t => t.IsCompleted);
                ending.Add(run.Work);
            }
            foreach (var (key, webhook) in stored)
            {
                if (running.ContainsKey(key)) continue;
                var cancel = CancellationTokenSource.CreateLinkedTokenSource(stop.Token);
                running[key] = (webhook.Created, cancel, Task.Run(() => Run(webhook, cancel.Token)));
            }
        }
    }

    async Task Run(StoredWebhook webhook, CancellationToken cancel)
    {
        var space = spaces.Find(webhook.Space)!;
        try
        {
            // The stored time counts once, after a start; later pauses are measured, whatever the clock is set to meanwhile.
            await Task.Delay(TimeSpan.FromMicroseconds(Math.Clamp(webhook.Next - Now, 0, (long)LongestPause.TotalMicroseconds)),
                clock, cancel);
            while (!cancel.IsCancellationRequested && webhook.Ended is null)
            {
                var next = news.Next(webhook.Space);
                try
                {
                    var (messages, upTo) = receipts.After(space, webhook.Delivered, MaxRows);
                    if (upTo == webhook.Delivered)
                    {
                        await next.WaitAsync(cancel);
                        continue;
                    }
                    var wanted = messages.Where(m => Wants(webhook, m)).ToList();
                    webhook = wanted.Count == 0 ? webhook with { Delivered = upTo } : await Post(webhook, space, wanted, upTo, cancel);
                    access.MoveWebhook(webhook);
                    if (webhook.Next > 0) await Task.Delay(TimeSpan.FromMicroseconds(webhook.Next - webhook.Tried!.Value), clock, cancel);
                }
                catch (Exception error) when (LedgerPump.IsStoreFailure(error))
                {
                    // It goes on once the store can be used again; what was posted and not noted is posted again.
                    log.LogWarning(error, "The webhook {Name} of the space {Space} waits for the store", webhook.Name, webhook.Space);
                    await Task.Delay(StorePause, clock, cancel);
                }
                catch (Exception error) when (error is not OperationCanceledException && !cancel.IsCancellationRequested)
                {
                    faults.Bug(webhook.Space, nameof(WebhookSender), error);
                    webhook = Failed(webhook, "could not be posted: a bug, see the service's log", null);
                    access.MoveWebhook(webhook);
                    await Task.Delay(TimeSpan.FromMicroseconds(webhook.Next - webhook.Tried!.Value), clock, cancel);
                }
            }
        }
        catch (OperationCanceledException)
        {
        }
        catch (ObjectDisposedException) when (cancel.IsCancellationRequested)
        {
            // The service has ended without waiting for it any longer.
        }
        catch (Exception error)
        {
            faults.Thrown(webhook.Space, nameof(WebhookSender), error);
        }
    }

    static bool Wants(StoredWebhook webhook, ReceiptMessage message) =>
        (webhook.States.Length == 0 || webhook.States.Split(',').Contains(message.State))
        && (webhook.Types.Length == 0 || webhook.Types.Split(',')
        .Any(t => t.EndsWith('*') ? message.Type.StartsWith(t[..^1], StringComparison.Ordinal) : t == message.Type));

    async Task<StoredWebhook> Post(StoredWebhook webhook, SpaceRuntime space, List<ReceiptMessage> messages, long upTo,
        CancellationToken cancel)
    {
        // The same for every attempt, so that a receiver knows a repeat: it says up to where, of which life of the store.
        var id = $"receipts_{space.Receipts.Seal(new Position(upTo))}";
        var body = Body(space, messages);
        var now = clock.GetUtcNow();
        var result = await webhooks.Post(webhook.Url, webhook.Secret, id, body, cancel);
        webhook = webhook with { Tried = Micros(now) };
        if (result.Failure is not { } failure) return webhook with { Delivered = upTo, Failures = 0, Error = null, Next = 0 };
        webhook = Failed(webhook, failure, result.Asked);
        return result.IsGone ? webhook with { Ended = Micros(now) } : webhook;
    }

    /// <summary>Notes a failed attempt, and when the next one may be made.</summary>
    StoredWebhook Failed(StoredWebhook webhook, string failure, TimeSpan? asked)
    {
        var now = clock.GetUtcNow();
        // Told once, then rarely: a receiver that is down for days must not fill the log.
        if (BitOperations.IsPow2(webhook.Failures + 1))
        {
            log.LogWarning("The webhook {Name} of the space {Space} {Failure} ({Count} times in a row)", webhook.Name, webhook.Space,
                failure, webhook.Failures + 1);
        }
        return webhook with
        {
            Tried = Micros(now),
            Failures = webhook.Failures + 1,
            Error = failure,
            Next = Micros(now + OutboundPause.After(webhook.Failures, asked))
        };
    }

    static byte[] Body(SpaceRuntime space, List<ReceiptMessage> messages)
    {
        var buffer = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            json.WriteString("type", "receipts");
            using (var last = JsonDocument.Parse(messages[^1].Json)) json.WriteString("timestamp",
                last.RootElement.GetProperty("time").GetString());
            json.WriteStartObject("data");
            json.WriteString("space", space.Name);
            json.WriteStartArray("receipts");
            foreach (var message in messages) json.WriteRawValue(message.Json);
            json.WriteEndArray();
            json.WriteEndObject();
            json.WriteEndObject();
        }
        return buffer.WrittenSpan.ToArray();
    }

    long Now => Micros(clock.GetUtcNow());

    static long Micros(DateTimeOffset time) => StoredTime.From(time).Micros;

    /// <summary>Stops.</summary>
    public void Dispose()
    {
        stop.Cancel();
        Task[] work;
        lock (gate) work = [.. running.Values.Select(r => r.Work), .. ending];
        Task.WaitAll(work, TimeSpan.FromSeconds(5));
        stop.Dispose();
    }
}
