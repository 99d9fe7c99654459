using System.Diagnostics;
using System.Text.Json.Nodes;

namespace Rovett.Cli.Conformance;

/// <summary>A client did something else than it should.</summary>
sealed class Deviation(string what) : Exception(what);

/// <summary>Holds one conversation over one transport with one client.</summary>
sealed class Rehearsal(Conversation conversation, Stage stage, ClientUnderTest client)
{
    static readonly TimeSpan Patience = TimeSpan.FromSeconds(10), Afterwards = TimeSpan.FromMilliseconds(400),
        Glance = TimeSpan.FromMilliseconds(10), OnTheWay = TimeSpan.FromMilliseconds(300);

    readonly List<(string Id, string Cursor)> said = [];
    readonly HashSet<string> tokens = [], acked = [];
    readonly List<JsonObject> ahead = []; // what the application saw and no step has asked for
    Opening? present;
    Heard? last;
    int looked;
    string? needed; // of an ack that goes too far

    /// <summary>Waits for the client to say what it can.</summary>
    public async Task<IReadOnlySet<string>> Capabilities() =>
        (await Sees(new JsonObject { ["can"] = null }, any: true))["can"]!.AsArray().Select(c => (string)c!).ToHashSet();

    /// <exception cref="Deviation">What differs.</exception>
    public async Task Run()
    {
        int number = 0;
        foreach (var step in conversation.Steps)
        {
            number++;
            try
            {
                await Take(step);
                Look();
            }
            catch (Deviation deviation)
            {
                throw new Deviation($"step {number}, {step.What} {step.Details?.ToJsonString()}: {deviation.Message}");
            }
        }
        await Task.Delay(Afterwards);
        Look();
        if (ahead.Find(e => e.ContainsKey("handled")) is { } more)
        {
            throw new Deviation($"the application was given {more.ToJsonString()}, which it should not be");
        }
    }

    async Task Take(Step step)
    {
        switch (step.What)
        {
            case "opens":
                present = await Opens(step.Details!.AsObject());
                break;
            case "refused":
                present!.Verdict.TrySetResult(step.Details!.AsObject());
                break;
            case "says":
                var message = step.Details!.DeepClone().AsObject();
                if (message["cursor"] is { } cursor) said.Add(((string?)message["id"] ?? "", (string)cursor!));
                stage.Say(present!, message);
                break;
            case "hears":
                last = await Hears(step.Details!);
                break;
            case "answers":
                var answer = step.Details!.DeepClone().AsObject();
                answer["requestId"] = last!.Message["requestId"]?.DeepClone();
                if (last.Posted is { } posted) posted.TrySetResult(answer);
                else stage.Say(present!, answer);
                break;
            case "acked":
                await Until(() => acked.Contains((string)step.Details!),
                    () => acked.Count == 0 ? "nothing is acknowledged" : $"acknowledged is only {string.Join(", ", acked)}");
                await Task.Delay(OnTheWay); // the answer is
                break;
            case "cut":
                await Task.Delay(OnTheWay);
                present!.Over.Cancel();
                break;
            case "sees":
                await Sees(step.Details!.AsObject(), any: false);
                break;
            case "does":
                client.Do(step.Details!);
                break;
            default:
                await Task.Delay((int)step.Details!);
                if (stage.Openings.Reader.TryRead(out _)) throw new Deviation("it came back");
                break;
        }
    }

    async Task<Opening> Opens(JsonObject wanted)
    {
        Opening opened = null!;
        await Until(() => stage.Openings.Reader.TryRead(out opened!), () => "it does not ask for a session");
        if (wanted.ContainsKey("after") && opened.After != (string?)wanted["after"])
        {
            throw new Deviation($"it asks for after={opened.After ?? "(none)"}");
        }
        bool isFresh = tokens.Add(opened.Token);
        if ((string?)wanted["token"] == "fresh" && !isFresh) throw new Deviation("it shows a token that it showed before");
        acked.Clear();
        return opened;
    }

    /// <summary>Waits for a message of the client's; its acknowledgements are taken meanwhile.</summary>
    async Task<Heard> Hears(JsonNode wanted)
    {
        Heard? found = null;
        await Until(() =>
        {
            while (found is null && stage.HeardMessages.Reader.TryRead(out var heard))
            {
                if (Conversation.Fits(heard.Message, wanted)) found = heard;
                if (!Acknowledges(heard) && found != heard) throw new Deviation($"it says {heard.Message.ToJsonString()}");
            }
            return found is not null;
        }, () => $"it does not send {wanted.ToJsonString()}");
        return found!;
    }

    /// <summary>Takes an acknowledgement; any is answered as the service does.</summary>
    bool Acknowledges(Heard heard)
    {
        if ((string?)heard.Message["kind"] != "ack") return false;
        bool again = heard.Message["again"] is { } a && (bool)a;
        foreach (var id in again ? [] : heard.Message["ids"]?.AsArray().Select(i => (string)i!) ?? []) acked.Add(id);
        if (heard.Message["upTo"] is { } upTo)
        {
            int index = said.FindLastIndex(s => s.Cursor == (string)upTo!);
            if (index < 0) needed = $"it acknowledges {upTo}, which it was not sent";
            for (int i = 0; i <= index; i++)
            {
                acked.Add(said[i].Cursor);
                acked.Add(said[i].Id);
            }
        }
        if (heard.Posted is { } posted) posted.TrySetResult(heard.Message["requestId"] is { } request ? Done(request) : null);
        else if (heard.Message["requestId"] is { } request && present is not null) stage.Say(present, Done(request));
        return true;

        static JsonObject Done(JsonNode request) => new() { ["kind"] = "done", ["requestId"] = request.DeepClone() };
    }

    /// <summary>The next event of a kind: notifications in their order, of what stands or is counted the one that comes to be so.</summary>
    async Task<JsonObject> Sees(JsonObject wanted, bool any)
    {
        var kind = wanted.Single().Key;
        JsonObject? found = null;
        await Until(() =>
        {
            Look();
            int index = ahead.FindIndex(
                e => e.ContainsKey(kind) && (any || kind is not ("state" or "totals") || Conversation.Fits(e, wanted)));
            if (index < 0) return false;
            found = ahead[index];
            ahead.RemoveAt(index);
            if (!any && !Conversation.Fits(found, wanted)) throw new Deviation($"it sees {found.ToJsonString()}");
            return true;
        }, () => client.HasExited ? $"the client has ended: {client.Said}"
            : $"it does not print {wanted.ToJsonString()}; it printed {Printed()}");
        return found!;
    }

    /// <summary>Everything it printed that was not expected.</summary>
    string Printed()
    {
        var lines = string.Join(' ', ahead.Select(e => e.ToJsonString()).Append(client.Said)).Trim();
        return lines.Length > 0 ? lines : "nothing";
    }

    /// <summary>Takes what came since, and holds it against what must never be.</summary>
    void Look()
    {
        var fresh = client.SeenFrom(looked);
        looked += fresh.Count;
        ahead.AddRange(fresh);
        foreach (var seen in fresh)
        {
            if (conversation.Never.FirstOrDefault(n => Conversation.Fits(seen, n)) is { } wrong)
            {
                throw new Deviation($"it sees {seen.ToJsonString()}, which it never should");
            }
        }
        while (stage.HeardMessages.Reader.TryPeek(out var heard) && (string?)heard.Message["kind"] == "ack"
            && heard.Message["again"] is null && stage.HeardMessages.Reader.TryRead(out heard))
        {
            Acknowledges(heard);
        }
        if (needed is not null) throw new Deviation(needed);
    }

    async Task Until(Func<bool> holds, Func<string> otherwise)
    {
        for (var since = Stopwatch.StartNew(); ; await Task.Delay(Glance))
        {
            Look();
            if (holds()) return;
            if (since.Elapsed > Patience) throw new Deviation(otherwise());
        }
    }
}
