using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Threading.Channels;
using Microsoft.AspNetCore.Http;
using Rovett.Core.Wire.WebSockets;

namespace Rovett.Bench;

/// <summary>What Rovett must do and the floor does not, done in the plainest way: with the framework's own means, and nothing that a
/// service needs besides (addresses, roles, acknowledgements, limits, faults, metrics).</summary>
sealed class Duties
{
    /// <summary>The secret that tokens are signed with, and the key that sends, for the floor alone.</summary>
    public const string Secret = "a secret of the floor that is long enough for HMAC", Key = "a-key-of-the-floor";

    const int Page = 256, Cursor = 22;
    static readonly string cursor = new('0', Cursor);
    readonly ConcurrentDictionary<string, string> tokens = [];
    readonly ConcurrentDictionary<string, string> keys = new() { [Hash(Key)] = "main" };
    readonly ConcurrentDictionary<string, long> unread = [];
    readonly Channel<Work>? waiting;
    readonly string history;

    /// <summary>One thing to store, and who waits for it.</summary>
    readonly record struct Work(int Person, bool IsSend, TaskCompletionSource Done);

    /// <param name="duty">What is done.</param>
    /// <param name="history">A copy of a service's history, for what is stored.</param>
    public Duties(Duty duty, string history)
    {
        (Duty, this.history) = (duty, history);
        if (duty < Duty.Stores) return;
        waiting = Channel.CreateUnbounded<Work>(new UnboundedChannelOptions { SingleReader = true });
        new Thread(Store) { IsBackground = true }.Start();
    }

    public Duty Duty { get; }

    /// <summary>Who a token is of; a token seen before is known.</summary>
    public async ValueTask<string> Verify(HttpContext context)
    {
        var token = context.Request.Headers.Authorization.ToString()["Bearer ".Length..];
        if (tokens.TryGetValue(token, out var known)) return known;
        int dot = token.LastIndexOf('.');
        var mac = HMACSHA256.HashData(Encoding.ASCII.GetBytes(Secret), Encoding.ASCII.GetBytes(token[..dot]));
        if (!CryptographicOperations.FixedTimeEquals(mac, Base64(token[(dot + 1)..]))) throw new InvalidOperationException("not signed");
        using var payload = JsonDocument.Parse(Base64(token[(token.IndexOf('.') + 1)..dot]));
        if (payload.RootElement.GetProperty("exp").GetInt64() < DateTimeOffset.UtcNow.ToUnixTimeSeconds())
        {
            throw new InvalidOperationException("not valid any more");
        }
        var user = payload.RootElement.GetProperty("sub").GetString()!;
        tokens[token] = user;
        if (waiting is not null) await Stored(user, isSend: false);
        return user;
    }

    /// <summary>Reads a request to send, stores it, and makes of it what is passed on and what is answered.</summary>
    public async ValueTask<(byte[] Frame, byte[] Answer)> Take(HttpContext context, byte[] body)
    {
        if (!keys.ContainsKey(Hash(context.Request.Headers.Authorization.ToString()["Bearer ".Length..])))
        {
            throw new InvalidOperationException("not a key");
        }
        using var request = JsonDocument.Parse(body);
        var to = request.RootElement.GetProperty("to")[0].GetString()!;
        var id = Guid.CreateVersion7().ToString("N");
        if (waiting is not null) await Stored(to["user:".Length..], isSend: true);
        var count = unread.AddOrUpdate(to, 1, static (_, n) => n + 1);
        var notification = new MemoryStream(512);
        using (var json = new Utf8JsonWriter(notification))
        {
            json.WriteStartObject();
            json.WriteString("kind", "notification");
            json.WriteString("cursor", cursor);
            json.WriteString("id", id);
            json.WriteString("to", to);
            foreach (var field in new[] { "type", "title", "data" })
            {
                json.WritePropertyName(field);
                request.RootElement.GetProperty(field).WriteTo(json);
            }
            json.WriteString("urgency", "normal");
            json.WriteString("time", DateTime.UtcNow);
            json.WriteNumber("attempt", 1);
            json.WriteNumber("rev", count);
            json.WriteNumber("unread", count);
            json.WriteEndObject();
        }
        return (FrameWriter.Text(notification.GetBuffer().AsSpan(0, (int)notification.Length)),
            JsonSerializer.SerializeToUtf8Bytes(new Dictionary<string, object> { ["id"] = id, ["recipients"] = 1 }));
    }

    /// <summary>Sends so many entries of a log, read from disk and framed one by one.</summary>
    public async Task Flood(Stream stream, int count)
    {
        using var pages = PlainHistory.Longest(history);
        var joined = new MemoryStream(16384);
        for (long after = 0, left = count; left > 0; left -= Page)
        {
            after = pages.Read(after, (int)Math.Min(left, Page), (time, id, body) =>
            {
                var head = Encoding.ASCII.GetBytes(
                    $"{{\"kind\":\"notification\",\"cursor\":\"{cursor}\",\"id\":\"{Convert.ToHexString(id)}\",\"time\":{time},");
                joined.Write(FrameWriter.Text([.. head, .. body.AsSpan(1)]));
            });
            await stream.WriteAsync(joined.GetBuffer().AsMemory(0, (int)joined.Length));
            joined.SetLength(0);
        }
    }

    Task Stored(string person, bool isSend)
    {
        var done = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        waiting!.Writer.TryWrite(new Work(int.Parse(person.AsSpan("person".Length)), isSend, done));
        return done.Task;
    }

    /// <summary>What waits is stored in one commit; a commit of nothing but who connected does not wait for the disk.</summary>
    void Store()
    {
        using var plain = new PlainHistory(history);
        var batch = new List<Work>();
        for (; ; )
        {
            if (!waiting!.Reader.WaitToReadAsync().AsTask().GetAwaiter().GetResult()) return;
            while (waiting.Reader.TryRead(out var next)) batch.Add(next);
            plain.Begin(batch.Exists(w => w.IsSend));
            foreach (var work in batch)
            {
                if (work.IsSend) plain.Add(work.Person);
                else plain.Seen(work.Person);
            }
            plain.Commit();
            foreach (var work in batch) work.Done.SetResult();
            batch.Clear();
        }
    }

    static string Hash(string key) => Convert.ToHexString(SHA256.HashData(Encoding.ASCII.GetBytes(key)));

    static byte[] Base64(string text) => System.Buffers.Text.Base64Url.DecodeFromChars(text);
}
