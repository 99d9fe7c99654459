using System.Buffers;
using System.IO.Pipelines;
using System.Net.Sockets;
using System.Text;
using System.Text.Json;
using Rovett.Service.Credentials;
using Rovett.Service.Http;

namespace Rovett.Service.Intakes.Lines;

/// <summary>One connection that sends lines: an API key first where it needs one, then events. Each line is answered with one, in order,
/// once what came of it is on disk.</summary>
sealed class LineConnection(Socket socket, Inlet inlet, LineSettings lines, LineRate rate, bool needsKey) : IDisposable
{
    static readonly TimeSpan KeyWithin = TimeSpan.FromSeconds(10);
    // A few hundred lines at once go into one commit; who sends nothing holds no buffer.
    static readonly StreamPipeReaderOptions Reading = new(bufferSize: 128 * 1024, minimumReadSize: 32 * 1024, useZeroByteReads: true);

    readonly NetworkStream stream = new(socket, ownsSocket: true);

    /// <summary>Serves it to its end.</summary>
    public async Task Serve(CancellationToken drain)
    {
        try
        {
            var reader = new LineStream(PipeReader.Create(stream, Reading), lines.MaxLine);
            var key = needsKey ? await Admit(reader, drain) : null;
            if (needsKey && key is null) return;
            while (await reader.Next(inlet.Settings.Batch, drain) is { Count: > 0 } found)
            {
                await rate.Wait(found.Count, drain);
                if (key is not null && !inlet.Keys.StillHolds(key))
                {
                    await Say(json => Refusal(json, new Problem(401, "api-key-revoked", "API key revoked",
                        $"The key '{key.Stored.Name}' was revoked.", "Connect again with another key.")));
                    return;
                }
                await Take(found, key);
            }
        }
        catch (Exception error) when (error is OperationCanceledException or IOException or SocketException or ObjectDisposedException)
        {
            // It is gone, or the service stops. What was not answered is sent again.
        }
        catch (Exception error)
        {
            inlet.Bug(error);
        }
    }

    async Task<ApiKey?> Admit(LineStream reader, CancellationToken drain)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(drain);
        limit.CancelAfter(KeyWithin);
        var first = await reader.Next(1, limit.Token);
        if (first.Count == 0) return null;
        try
        {
            var key = inlet.Keys.Require(Encoding.UTF8.GetString(first[0].Bytes), inlet.Space, "send");
            await Say(json => json.WriteBoolean("ready", true));
            return key;
        }
        catch (ProblemException refused)
        {
            await Say(json => Refusal(json, refused.Problem));
            return null;
        }
    }

    async Task Take(List<Line> found, ApiKey? key)
    {
        var now = inlet.Clock.GetUtcNow();
        var taken = await inlet.Take([.. found.Select(l => LineItems.Of(l, lines.MaxLine, now) with { Key = key })]);
        var buffer = new ArrayBufferWriter<byte>(taken.Count * 64);
        foreach (var one in taken) Write(buffer, json => Answer(json, one));
        await stream.WriteAsync(buffer.WrittenMemory);
    }

    static void Answer(Utf8JsonWriter json, TakenItem one)
    {
        var result = one.Result;
        if (one.Event is { } found) json.WriteString("id", found.Id);
        if (result.Outcome is { } outcome)
        {
            json.WriteStartArray("notifications");
            foreach (var made in outcome.Notifications) json.WriteStringValue(made.Id.ToString());
            json.WriteEndArray();
            if (outcome.Gatherings.Count > 0) json.WriteNumber("gathering", outcome.Gatherings.Count);
            if (outcome.IsRepeated) json.WriteBoolean("repeated", true);
        }
        if ((result.SetAside ?? result.Outcome?.SetAside) is { } number) json.WriteNumber("setAside", number);
        if (result.Why is { } why) json.WriteString("reason", why);
    }

    static void Refusal(Utf8JsonWriter json, Problem problem)
    {
        json.WriteStartObject("problem");
        problem.WriteMembers(json);
        json.WriteEndObject();
    }

    async Task Say(Action<Utf8JsonWriter> members)
    {
        var buffer = new ArrayBufferWriter<byte>();
        Write(buffer, members);
        await stream.WriteAsync(buffer.WrittenMemory);
    }

    static void Write(ArrayBufferWriter<byte> buffer, Action<Utf8JsonWriter> members)
    {
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            members(json);
            json.WriteEndObject();
        }
        buffer.Write("\n"u8);
    }

    public void Dispose() => stream.Dispose();
}
