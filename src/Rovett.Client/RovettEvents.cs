using System.Diagnostics;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;
using Polly;

namespace Rovett.Client;

/// <summary>Publishes events, of which rules make notifications. Safe to share. An event is recognised by its source and id, so a
/// repeat after a failure is taken once.</summary>
public sealed class RovettEvents : IDisposable
{
    const int MostAtOnce = 1000;
    const string One = "application/cloudevents+json", Lines = "application/x-ndjson";

    readonly RovettClient client;
    readonly ResiliencePipeline pipeline;

    /// <summary>Makes one.</summary>
    /// <param name="options">The service's address and the key, with the scope <c>send</c>.</param>
    /// <exception cref="ArgumentException">The address or the key is missing.</exception>
    public RovettEvents(RovettSendOptions options)
    {
        ArgumentNullException.ThrowIfNull(options);
        client = options.Connect();
        pipeline = options.Pipeline();
    }

    /// <summary>Publishes an event.</summary>
    /// <param name="source">Where it happened: a URI-reference, such as <c>/planning/1</c>.</param>
    /// <param name="type">Its type: <c>engine.check.due</c>.</param>
    /// <param name="subject">The subject it is about, or null.</param>
    /// <param name="data">Its data as JSON, or null.</param>
    /// <param name="cancel">Ends the attempts.</param>
    /// <exception cref="RovettRefusedException">It was refused, or every retry failed.</exception>
    /// <exception cref="HttpRequestException">The service could not be reached, however often it was tried.</exception>
    public Task<PublishedEvent> Publish(string source, string type, string? subject = null, JsonNode? data = null,
        CancellationToken cancel = default) => Publish(new BackendEvent(source, type, subject, data), cancel);

    /// <summary>Publishes an event. When this returns, its notifications are on disk.</summary>
    /// <param name="happened">The event.</param>
    /// <param name="cancel">Ends the attempts.</param>
    /// <exception cref="RovettRefusedException">It was refused, or every retry failed.</exception>
    /// <exception cref="HttpRequestException">The service could not be reached, however often it was tried.</exception>
    public async Task<PublishedEvent> Publish(BackendEvent happened, CancellationToken cancel = default)
    {
        ArgumentNullException.ThrowIfNull(happened);
        var body = WithTrace(happened).ToJsonString();
        return PublishedEvent.From(await pipeline.ExecuteAsync(async stop =>
            await client.Call(HttpMethod.Post, "/v1/events", () => Content(body, One), stop).ConfigureAwait(false), cancel)
            .ConfigureAwait(false));
    }

    /// <summary>Publishes many events in order, up to 1,000 in a request.</summary>
    /// <param name="events">The events.</param>
    /// <param name="cancel">Ends the attempts.</param>
    /// <returns>The result of each, in the order given. A refused one does not affect the others.</returns>
    public async Task<IReadOnlyList<PublishOutcome>> PublishMany(IEnumerable<BackendEvent> events, CancellationToken cancel = default)
    {
        var outcomes = new List<PublishOutcome>();
        foreach (var chunk in events.Chunk(MostAtOnce))
        {
            var body = string.Join('\n', chunk.Select(e => WithTrace(e).ToJsonString()));
            var results = (await Publish(body, cancel).ConfigureAwait(false))["results"]!.AsArray();
            for (int i = 0; i < chunk.Length; i++)
            {
                outcomes.Add(results[i]!["problem"] is { } problem
                    ? new PublishOutcome(chunk[i], null, RovettRefusedException.From(problem, (int)problem["status"]!))
                    : new PublishOutcome(chunk[i], PublishedEvent.From(results[i]!["outcome"]!), null));
            }
        }
        return outcomes;
    }

    async Task<JsonNode> Publish(string lines, CancellationToken cancel)
    {
        JsonNode? last = null;
        try
        {
            return await pipeline.ExecuteAsync(async stop =>
            {
                last = null;
                last = await client.Call(HttpMethod.Post, "/v1/events", () => Content(lines, Lines), stop).ConfigureAwait(false);
                return Passing(last) is { } refused ? throw refused : last;
            }, cancel).ConfigureAwait(false);
        }
        catch (RovettRefusedException) when (last is not null)
        {
            return last; // it names those that were refused to the end; the others were taken
        }
    }

    /// <summary>A refusal that is worth another attempt: all of the chunk is sent again, and what was taken is recognised.</summary>
    static RovettRefusedException? Passing(JsonNode answer) => answer["results"]!.AsArray()
        .Select(r => r!["problem"]).FirstOrDefault(p => (int?)p?["status"] is 429 or 503) is { } problem
        ? RovettRefusedException.From(problem, (int)problem["status"]!)
        : null;

    static JsonObject WithTrace(BackendEvent happened)
    {
        var json = happened.ToJson();
        if (!json.ContainsKey("traceparent") && Activity.Current is { IdFormat: ActivityIdFormat.W3C, Id: { } trace })
        {
            json["traceparent"] = trace;
        }
        return json;
    }

    static StringContent Content(string body, string type) => new(body, Encoding.UTF8, MediaTypeHeaderValue.Parse(type));

    /// <inheritdoc/>
    public void Dispose() => client.Dispose();
}
