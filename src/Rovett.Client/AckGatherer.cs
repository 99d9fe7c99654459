using System.Net.WebSockets;
using System.Text.Json.Nodes;

namespace Rovett.Client;

/// <summary>Acknowledges what was handed out over one connection, by number and time, whichever is first, until the
/// service says that it knows.</summary>
sealed class AckGatherer(LiveLink link, Unconfirmed unconfirmed, LiveOptions options, Action<string> trouble) : IDisposable
{
    const string RequestPrefix = "acknowledged-";
    static readonly TimeSpan MostBetween = TimeSpan.FromSeconds(30);

    readonly Lock gate = new();
    readonly Dictionary<string, string> asked = [];
    readonly SemaphoreSlim turn = new(1, 1);
    readonly CancellationTokenSource ended = new();
    int count, requests, refusals;
    string? newest; // handed out, and not asked for yet
    bool isTimed;

    /// <summary>Takes note of what was handed out.</summary>
    /// <param name="cursor">Its cursor.</param>
    /// <param name="atOnce">Acknowledge it now.</param>
    /// <param name="cancel">Ends the wait.</param>
    public async Task Handled(string cursor, bool atOnce, CancellationToken cancel)
    {
        lock (gate)
        {
            newest = cursor;
            atOnce |= ++count >= options.AckEvery && refusals == 0;
            if (!atOnce) Time();
        }
        if (atOnce) await Now(cancel).ConfigureAwait(false);
    }

    /// <summary>Acknowledges what was handed out until now.</summary>
    public async Task Now(CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            string cursor, request;
            lock (gate)
            {
                if (newest is null) return;
                cursor = newest;
                newest = null;
                count = 0;
                request = $"{RequestPrefix}{++requests}";
                asked[request] = cursor;
            }
            LinkAnswer answer;
            try
            {
                answer = await link.Send(new JsonObject
                { ["kind"] = "ack", ["upTo"] = cursor, ["handled"] = true, ["requestId"] = request }, cancel).ConfigureAwait(false);
            }
            catch (Exception error) when (error is WebSocketException or IOException or HttpRequestException or InvalidOperationException)
            {
                // Either the connection is gone, which its reader sees, and what was not acknowledged is sent again, and known by its id;
                // or a post beside a stream failed.
                answer = new LinkAnswer(IsRefused: true, Why: error.Message);
            }
            if (answer.IsRefused) Again(request, answer.Why);
            else if (answer.IsStored) Confirm(request);
        }
        finally
        {
            turn.Release();
        }
    }

    /// <summary>Whether a message answers an acknowledgement; then it is stored, or sent again in a while.</summary>
    public bool Answers(JsonObject message)
    {
        if ((string?)message["requestId"] is not { } request || !request.StartsWith(RequestPrefix, StringComparison.Ordinal)) return false;
        if ((string?)message["kind"] == "done") Confirm(request);
        else if ((string?)message["kind"] == "refused") Again(request, (string?)message["problem"]?["detail"]);
        return true;
    }

    void Confirm(string request)
    {
        string? cursor;
        lock (gate)
        {
            refusals = 0;
            asked.Remove(request, out cursor);
        }
        if (cursor is not null) unconfirmed.Confirmed(cursor);
    }

    void Again(string request, string? why)
    {
        trouble($"what was received is not acknowledged yet: {why ?? "refused"}");
        lock (gate)
        {
            if (!asked.Remove(request, out var cursor)) return;
            newest ??= cursor; // or a later one, which says this too
            refusals++;
            Time();
        }
    }

    /// <summary>Acknowledges a little later; at the gate.</summary>
    void Time()
    {
        if (isTimed) return;
        isTimed = true;
        _ = Later(options.AckWithin * Math.Pow(2, Math.Min(refusals, 16)) is var wait && wait < MostBetween
            || refusals == 0 ? wait : MostBetween);
    }

    async Task Later(TimeSpan wait)
    {
        try
        {
            await Task.Yield(); // away from the gate
            await Task.Delay(wait, ended.Token).ConfigureAwait(false);
            lock (gate) isTimed = false; // what is handed out from here on is asked for below, or times itself
            await Now(ended.Token).ConfigureAwait(false);
        }
        catch (Exception error) when (error is OperationCanceledException or ObjectDisposedException)
        {
            // The connection was ended.
        }
    }

    /// <inheritdoc/>
    public void Dispose() => ended.Cancel(); // not disposed: an acknowledgement may be under way, and sees this
}
