using System.Buffers;
using System.Collections.Concurrent;
using System.Globalization;
using System.Net.Http.Headers;
using System.Numerics;
using System.Text.Json;
using Polly;
using Polly.CircuitBreaker;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Outbound;
using Rovett.Service.Spaces;
using Rovett.Storage.Access;

namespace Rovett.Service.Topics;

/// <summary>A question to a decider: may this user do this on this topic?</summary>
public readonly record struct Question(SpaceRuntime Space, string User, string Topic, TopicRights Right, string Policy);

/// <summary>A decider's answer.</summary>
/// <param name="Allowed">Whether it allows.</param>
/// <param name="Holds">For how long.</param>
/// <param name="Profile">The person's profile for others: a JSON object; empty: none.</param>
/// <param name="Failure">Why there is no answer, which then is a no; null: it answered.</param>
public sealed record BackendAnswer(bool Allowed, TimeSpan Holds, string Profile, string? Failure);

/// <summary>How a decider does.</summary>
public sealed record DeciderState(long Asked, long Allowed, long Denied, long Failed, string? LastError, bool Resting);

/// <summary>Asks backends whether a user may do something on a topic: a signed request (Standard Webhooks), a typed answer
/// that holds for a time. A backend that does not answer in time, or not as it should, has said no; one that fails again
/// and again is left alone for a while, and everybody is told no meanwhile.</summary>
public sealed class Deciders : IDisposable
{
    /// <summary>The most bytes of an answer.</summary>
    public const int MaxAnswerBytes = 16 * 1024;
    const int MaxProfileBytes = 4 * 1024, MostRemembered = 50_000;
    static readonly TimeSpan LongestHold = TimeSpan.FromDays(1), RestsFor = TimeSpan.FromSeconds(10),
        ShortestAskedRest = TimeSpan.FromSeconds(1), LongestAskedRest = TimeSpan.FromMinutes(10);

    readonly AccessStore store;
    readonly LedgerPump ledger;
    readonly TimeProvider clock;
    readonly ILogger log;
    readonly HttpClient http;
    readonly ConcurrentDictionary<(SpaceRuntime Space, string Name), Running> running = new();
    readonly ConcurrentDictionary<Question, (long Until, BackendAnswer Answer)> denials = new();
    readonly ConcurrentDictionary<Question, Lazy<Task<BackendAnswer>>> asking = new();

    /// <summary>Makes it.</summary>
    public Deciders(AccessStore store, LedgerPump ledger, OutboundGuard guard, TimeProvider clock, ILogger<Deciders> log)
    {
        (this.store, this.ledger, this.clock, this.log) = (store, ledger, clock, log);
        http = new HttpClient(guard.Handler()) { Timeout = Timeout.InfiniteTimeSpan };
    }

    /// <summary>How a decider does, and what stops asking it when it fails again and again.</summary>
    sealed class Running(ResiliencePipeline breaker, CircuitBreakerStateProvider state)
    {
        public readonly ResiliencePipeline Breaker = breaker;
        public readonly CircuitBreakerStateProvider State = state;
        public long Asked, Allowed, Denied, Failed, FailedInARow;
        public long RestsUntil; // a timestamp: it asked by Retry-After to be left alone
        public volatile string? LastError;
    }

    /// <summary>A decider was changed or removed, or (null) all of a space: what it said no to is asked again.</summary>
    public void Forget(SpaceRuntime space, string? name)
    {
        foreach (var key in running.Keys)
        {
            if (key.Space == space && (name is null || key.Name == name)) running.TryRemove(key, out _);
        }
        foreach (var question in denials.Keys)
        {
            if (question.Space == space) denials.TryRemove(question, out _);
        }
    }

    /// <summary>How a decider does.</summary>
    public DeciderState StateOf(SpaceRuntime space, string name) => running.TryGetValue((space, name), out var r)
        ? new DeciderState(Volatile.Read(ref r.Asked), Volatile.Read(ref r.Allowed), Volatile.Read(ref r.Denied),
        Volatile.Read(ref r.Failed), r.LastError, r.State.CircuitState is CircuitState.Open or CircuitState.Isolated)
        : new DeciderState(0, 0, 0, 0, null, false);

    /// <summary>Asks. The same question of several at a time is asked once; a no is remembered for as long as it holds.</summary>
    /// <param name="question">The question.</param>
    /// <param name="decider">The name of who is asked.</param>
    public Task<BackendAnswer> Ask(Question question, string decider)
    {
        if (denials.TryGetValue(question, out var known) && known.Until > clock.GetTimestamp()) return Task.FromResult(known.Answer);
        return asking.GetOrAdd(question, q => new Lazy<Task<BackendAnswer>>(() => AskOnce(q, decider))).Value;
    }

    async Task<BackendAnswer> AskOnce(Question question, string decider)
    {
        try
        {
            if (store.FindDecider(question.Space.Name, decider) is not { } stored)
            {
                return new BackendAnswer(false, TimeSpan.Zero, "", $"there is no decider '{decider}'");
            }
            var asked = running.GetOrAdd((question.Space, decider), _ => Begin());
            Interlocked.Increment(ref asked.Asked);
            BackendAnswer answer;
            try
            {
                var facts = await ledger.Ask(new FactsCommand(question.Space.Name, question.User));
                if (clock.GetTimestamp() < Volatile.Read(ref asked.RestsUntil)) throw new BrokenCircuitException();
                answer = await asked.Breaker.ExecuteAsync(async cancel => await Post(stored, question, facts, cancel),
                    CancellationToken.None);
            }
            catch (BrokenCircuitException)
            {
                answer = new BackendAnswer(false, TimeSpan.Zero, "",
                    $"failed repeatedly, or asked by Retry-After to be left alone, and is not asked for now: {asked.LastError}");
            }
            catch (DeciderFailedException failed)
            {
                // Told once, then rarely: a decider that is down must not fill the log.
                if (BitOperations.IsPow2(Interlocked.Increment(ref asked.FailedInARow)))
                {
                    log.LogWarning("The decider {Name} of the space {Space} {Failure} ({Count} times in a row)", decider,
                        question.Space.Name, failed.Message, asked.FailedInARow);
                }
                asked.LastError = failed.Message;
                if (failed.RestFor is { } rest)
                {
                    Volatile.Write(ref asked.RestsUntil,
                        clock.GetTimestamp() +
                        (long)(Math.Clamp(rest.TotalSeconds, ShortestAskedRest.TotalSeconds,
                        LongestAskedRest.TotalSeconds) * clock.TimestampFrequency));
                }
                answer = new BackendAnswer(false, TimeSpan.Zero, "", failed.Message);
            }
            if (answer.Failure is null) Interlocked.Exchange(ref asked.FailedInARow, 0);
            Interlocked.Increment(ref answer.Failure is not null ? ref asked.Failed : ref answer.Allowed
                ? ref asked.Allowed
                : ref asked.Denied);
            if (answer is { Allowed: false, Failure: null } && answer.Holds > TimeSpan.Zero)
            {
                if (denials.Count > MostRemembered) denials.Clear();
                denials[question] = (clock.GetTimestamp() + (long)(answer.Holds.TotalSeconds * clock.TimestampFrequency), answer);
            }
            return answer;
        }
        finally
        {
            asking.TryRemove(question, out _);
        }
    }

    Running Begin()
    {
        var state = new CircuitBreakerStateProvider();
        var breaker = new ResiliencePipelineBuilder { TimeProvider = clock }
            .AddCircuitBreaker(new CircuitBreakerStrategyOptions
            {
                FailureRatio = 0.5,
                MinimumThroughput = 5,
                SamplingDuration = TimeSpan.FromSeconds(30),
                BreakDuration = RestsFor,
                StateProvider = state,
                ShouldHandle = new PredicateBuilder().Handle<DeciderFailedException>()
            })
            .Build();
        return new Running(breaker, state);
    }

    async Task<BackendAnswer> Post(StoredDecider decider, Question question, UserFacts facts, CancellationToken cancel)
    {
        var body = Body(question, facts);
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(TimeSpan.FromMilliseconds(decider.TimeoutMs));
        try
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, decider.Url) { Content = new ByteArrayContent(body) };
            request.Content.Headers.ContentType = new MediaTypeHeaderValue("application/json");
            var id = "decision_" + Secrets.NewId();
            var timestamp = clock.GetUtcNow().ToUnixTimeSeconds().ToString(CultureInfo.InvariantCulture);
            request.Headers.Add("webhook-id", id);
            request.Headers.Add("webhook-timestamp", timestamp);
            request.Headers.Add("webhook-signature", "v1," + OutboundSignature.Of(decider.Secret, id, timestamp, body));
            request.Headers.UserAgent.ParseAdd("rovett/" + ServiceInfo.Version);
            using var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, limit.Token);
            if ((int)response.StatusCode != 200)
            {
                var rest = response.Headers.RetryAfter is { } after ? after.Delta ?? after.Date - clock.GetUtcNow() : null;
                throw new DeciderFailedException($"answered {(int)response.StatusCode}; a decision is a 200 with a JSON object")
                { RestFor = rest };
            }
            var buffer = new byte[MaxAnswerBytes + 1];
            await using var stream = await response.Content.ReadAsStreamAsync(limit.Token);
            int length = await stream.ReadAtLeastAsync(buffer, buffer.Length, throwOnEndOfStream: false, limit.Token);
            if (length > MaxAnswerBytes) throw new DeciderFailedException($"answered more than {MaxAnswerBytes} bytes");
            return Read(buffer.AsMemory(0, length), decider);
        }
        catch (HttpRequestException error)
        {
            throw new DeciderFailedException(error.InnerException is OutboundRefusedException refused
                ? refused.Message
                : $"can't be reached: {error.Message}");
        }
        catch (IOException error)
        {
            throw new DeciderFailedException($"broke off: {error.Message}");
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            throw new DeciderFailedException($"did not answer within {decider.TimeoutMs} ms");
        }
    }

    static byte[] Body(Question question, UserFacts facts)
    {
        var buffer = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            json.WriteString("type", "decision");
            json.WriteStartObject("data");
            json.WriteString("space", question.Space.Name);
            json.WriteString("user", question.User);
            json.WriteStartArray("roles");
            foreach (var role in facts.Roles) json.WriteStringValue(role);
            json.WriteEndArray();
            json.WriteStartObject("claims");
            foreach (var (path, values) in facts.Claims)
            {
                json.WriteStartArray(path);
                foreach (var value in values) json.WriteStringValue(value);
                json.WriteEndArray();
            }
            json.WriteEndObject();
            json.WriteString("topic", question.Topic);
            json.WriteString("right", RightNames.Of(question.Right).First());
            json.WriteString("policy", question.Policy);
            json.WriteEndObject();
            json.WriteEndObject();
        }
        return buffer.WrittenSpan.ToArray();
    }

    /// <summary>Reads an answer: <c>{"decision":"allow","for":"5m","profile":{…}}</c>.</summary>
    static BackendAnswer Read(ReadOnlyMemory<byte> body, StoredDecider decider)
    {
        try
        {
            using var document = Json.Parse(body.ToArray());
            var root = document.RootElement;
            if (root.ValueKind != JsonValueKind.Object || JsonText.HasBadText(root))
            {
                throw new DeciderFailedException("answered no JSON object");
            }
            bool allow = root.TryGetProperty("decision", out var decision) && decision.ValueKind == JsonValueKind.String
                && decision.ValueEquals("allow");
            if (!allow && !(decision.ValueKind == JsonValueKind.String && decision.ValueEquals("deny")))
            {
                throw new DeciderFailedException("answered without \"decision\": \"allow\" or \"deny\"");
            }
            var holds = TimeSpan.FromSeconds(allow ? decider.AllowSeconds : decider.DenySeconds);
            if (root.TryGetProperty("for", out var given)
                && (!JsonText.TryString(given, out var text) || !Durations.TryParse(text, out holds) || holds > LongestHold
                || (allow && holds < TimeSpan.FromSeconds(1))))
                throw new DeciderFailedException("answered a \"for\" that is not a time from 1s to 24h");
            var profile = "";
            if (root.TryGetProperty("profile", out given))
            {
                if (given.ValueKind != JsonValueKind.Object || given.GetRawText().Length > MaxProfileBytes)
                {
                    throw new DeciderFailedException(
                        $"answered a \"profile\" that is not an object of at most {MaxProfileBytes} characters");
                }
                profile = Json.OnOneLine(given);
            }
            return new BackendAnswer(allow, holds, profile, null);
        }
        catch (ProblemException malformed)
        {
            throw new DeciderFailedException("answered what is not JSON: " + malformed.Problem.Detail);
        }
    }

    /// <inheritdoc/>
    public void Dispose() => http.Dispose();

    sealed class DeciderFailedException(string message) : Exception(message)
    {
        /// <summary>How long it wants to be left alone (Retry-After).</summary>
        public TimeSpan? RestFor { get; init; }
    }
}
