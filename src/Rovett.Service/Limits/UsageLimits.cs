using System.Collections.Concurrent;
using System.Globalization;
using System.Net;
using Rovett.Service.Options;
using Rovett.Service.Spaces;

namespace Rovett.Service.Limits;

/// <summary>How much one backend, one user, one network address may use, and how much each does.</summary>
public sealed class UsageLimits(RovettOptions options, Connections connections, TimeProvider clock)
{
    const int MostBuckets = 10_000, MostRefusing = 100, LargeRequest = 16 * 1024;
    static readonly TimeSpan FirstWordsTake = TimeSpan.FromSeconds(1);

    readonly ConcurrentDictionary<(string Space, string Key), Bucket> sends = new();
    readonly EarlyReturns early = new();
    readonly ConcurrentDictionary<(string Space, string User), int> byUser = new();
    readonly ConcurrentDictionary<IPAddress, int> byAddress = new();
    readonly FairRoom waiting = new(options.MaxUnauthenticated, FirstWordsTake), refusing = new(MostRefusing, FirstWordsTake);

    /// <summary>The sends that are carried out now.</summary>
    public SendGate Sending { get; } = new(options.SendsAtOnce, TimeSpan.FromMilliseconds(options.MaxSendWaitMs));

    /// <summary>The options have changed.</summary>
    public void TakeUp()
    {
        (waiting.Most, Sending.Most, connections.Most) = (options.MaxUnauthenticated, options.SendsAtOnce, options.MaxConnections);
    }

    /// <summary>Sends that one API key of a space may make a second; 0: any number.</summary>
    public int SendsPerSecond(SpaceRuntime space) => space.Settings.SendsPerSecond ?? options.SendsPerSecond;

    /// <summary>Sessions that one user of a space may have at a time; 0: any number.</summary>
    public int SessionsPerUser(SpaceRuntime space) => space.Settings.SessionsPerUser ?? options.SessionsPerUser;

    /// <summary>Holds up a request that comes on a connection whose last one with the same key was refused by <see cref="TakeSend"/>, at
    /// least in part, and earlier than it was told: when it would be refused again, or is a large one. To be awaited before its body is
    /// read.</summary>
    public async ValueTask HoldEarly(HttpContext context, SpaceRuntime space, string keyId)
    {
        if (SendsPerSecond(space) == 0 || !sends.TryGetValue((space.Name, keyId), out var bucket)) return;
        bool isLarge = context.Request.ContentLength is not < LargeRequest;
        if (isLarge || bucket.Used >= bucket.PerSecond) await early.Hold(context, (space.Name, keyId));
    }

    /// <summary>Lets a send through, or says when to try again; tells the caller how it stands (RateLimit header fields).</summary>
    /// <returns>Null when it may be sent, otherwise 429: too many.</returns>
    public Problem? TakeSend(HttpContext context, SpaceRuntime space, string keyId, string keyName)
    {
        int rate = SendsPerSecond(space);
        if (rate == 0) return null;
        if (sends.Count > MostBuckets)
        {
            foreach (var (idle, full) in sends)
            {
                if (full.Used == 0) sends.TryRemove(KeyValuePair.Create(idle, full));
            }
        }
        var bucket = sends.GetOrAdd((space.Name, keyId), _ => new Bucket(rate, clock));
        if (bucket.PerSecond != rate) sends[(space.Name, keyId)] = bucket = new Bucket(rate, clock); // the setting changed
        var wait = bucket.Take(out int remaining);
        var headers = context.Response.Headers;
        headers["RateLimit-Policy"] = string.Create(CultureInfo.InvariantCulture, $"\"sends\";q={rate};w=1");
        headers["RateLimit"] = string.Create(CultureInfo.InvariantCulture,
            $"\"sends\";r={remaining};t={(int)Math.Ceiling(wait.TotalSeconds)}");
        if (wait == TimeSpan.Zero) return null;
        var problem = new Problem(429, "too-many-sends", "Too many sends", $"The key '{keyName}' may send {rate} notifications a second.",
            "Send slower, or raise the limit: PATCH /v1/settings with limits.sendsPerSecond.")
        { RetryAfterSeconds = Math.Max(1, (int)Math.Ceiling(wait.TotalSeconds)) };
        EarlyReturns.Tell(context, (space.Name, keyId), TimeSpan.FromSeconds(problem.RetryAfterSeconds.Value));
        return problem;
    }

    /// <summary>Lets through what a source hands over, counted as the sends of a key of its own.</summary>
    /// <param name="space">The space.</param>
    /// <param name="intake">The intake's name.</param>
    /// <param name="count">How many notifications it makes.</param>
    /// <returns>Zero when it may go on; otherwise how long to wait, and nothing is counted.</returns>
    public TimeSpan TakeFromSource(SpaceRuntime space, string intake, int count)
    {
        int rate = SendsPerSecond(space);
        if (rate == 0) return TimeSpan.Zero;
        var key = (space.Name, "intake " + intake);
        var bucket = sends.GetOrAdd(key, _ => new Bucket(rate, clock));
        if (bucket.PerSecond != rate) sends[key] = bucket = new Bucket(rate, clock); // the setting changed
        return bucket.TakeAll(count);
    }

    /// <summary>Counts what rules made of an event beyond one notification: what follows waits for it.</summary>
    public void CountMore(SpaceRuntime space, string keyId, int more)
    {
        if (more > 0 && sends.TryGetValue((space.Name, keyId), out var bucket)) bucket.TakeAll(more);
    }

    /// <summary>For a session that is counted elsewhere.</summary>
    public static IDisposable NoPlace { get; } = new Nothing();

    /// <summary>Counts a session in; to be disposed when it ends.</summary>
    /// <exception cref="ProblemException">429: the user, or the network address, has as many as it may.</exception>
    public IDisposable EnterSession(SpaceRuntime space, string user, IPAddress? address)
    {
        int most = SessionsPerUser(space);
        if (!Count(byUser, (space.Name, user), most))
            throw new Problem(429, "too-many-sessions", "Too many sessions", $"The limit is {most} for one user.",
                "Close sessions that are not needed. Operators: raise sessionsPerUser.")
            { RetryAfterSeconds = 5 }.ToException();
        var network = address is null ? null : FairRoom.NetworkOf(address);
        if (network is null || Count(byAddress, network, options.SessionsPerAddress)) return new Counted(this, space.Name, user, network);
        Leave(byUser, (space.Name, user));
        throw new Problem(429, "too-many-sessions", "Too many sessions from one address",
            $"The limit is {options.SessionsPerAddress} for one network address.",
            "Operators: raise sessionsPerAddress; behind a proxy, set trustedProxies.")
        { RetryAfterSeconds = 5 }.ToException();
    }

    /// <summary>Counts a WebSocket in that has not said whose it is; to be disposed when it has.</summary>
    /// <param name="address">Where it comes from: when too many wait, the oldest of the network with most goes.</param>
    /// <param name="putOut">Called when it has to go.</param>
    /// <exception cref="ProblemException">503: too many wait.</exception>
    public IDisposable EnterUnauthenticated(IPAddress? address, Action putOut) =>
        waiting.Enter(FairRoom.NetworkOf(address), putOut) ?? throw TooManyUnauthenticated().ToException();

    /// <summary>What is told to who is not waited for.</summary>
    public Problem TooManyUnauthenticated() =>
        new(503, "too-many-unauthenticated", "Too many unauthenticated connections",
        $"The limit is {options.MaxUnauthenticated} connections without a first message.",
        "Try again shortly, or connect with a header or a ticket.")
        { RetryAfterSeconds = 1 };

    /// <summary>Counts a WebSocket in that is accepted only to hear why it is refused; null: that takes too many
    /// already, and it is refused without.</summary>
    public IDisposable? EnterRefused(IPAddress? address, Action putOut) => refusing.Enter(FairRoom.NetworkOf(address), putOut);

    static bool Count<TKey>(ConcurrentDictionary<TKey, int> counts, TKey key, int most) where TKey : notnull
    {
        if (counts.AddOrUpdate(key, 1, static (_, n) => n + 1) is var now && (most == 0 || now <= most)) return true;
        Leave(counts, key);
        return false;
    }

    static void Leave<TKey>(ConcurrentDictionary<TKey, int> counts, TKey key) where TKey : notnull
    {
        counts.AddOrUpdate(key, 0, static (_, n) => n - 1);
        counts.TryRemove(KeyValuePair.Create(key, 0));
    }

    /// <summary>Every limit, what it is set to, and the most that is used of it now.</summary>
    public IEnumerable<(string Name, int Limit, int Used, string What)> All(SpaceRuntime space)
    {
        yield return ("maxBodyBytes", options.MaxBodyBytes, 0, "bytes of a request's body");
        yield return ("maxMessageBytes", options.MaxMessageBytes, 0, "bytes of a device's message");
        yield return ("messagesPerSecond", options.MessagesPerSecond, 0, "messages of one session a second; it is read slower then");
        yield return ("sendsPerSecond", SendsPerSecond(space), sends.Where(s => s.Key.Space == space.Name).Select(s => s.Value.Used)
            .DefaultIfEmpty().Max(), "sends of one API key a second");
        yield return ("sessionsPerUser", SessionsPerUser(space), byUser.Where(u => u.Key.Space == space.Name).Select(u => u.Value)
            .DefaultIfEmpty().Max(), "sessions of one user");
        yield return ("sessionsPerAddress", options.SessionsPerAddress, byAddress.Values.DefaultIfEmpty()
            .Max(), "sessions from one network address");
        yield return ("maxConnections", connections.Most, connections.Now, "connections, whatever is said on them");
        yield return ("minReadBytesPerSecond", options.MinReadBytesPerSecond, 0, "bytes of an answer that must be read a second");
        yield return ("maxUnauthenticated", options.MaxUnauthenticated, waiting.Taken, "WebSockets that have not said whose they are");
        yield return ("topicsPerSession", options.TopicsPerSession, 0, "topics that one session has subscribed to");
        yield return ("topicsPerUser", options.TopicsPerUser, 0, "topics that one user follows");
        yield return ("handshakeSeconds", options.HandshakeSeconds, 0, "seconds until they must have");
        yield return ("window", options.Window, 0, "notifications that a device may leave unacknowledged");
        yield return ("sendsAtOnce", options.SendsAtOnce, Sending.Inside, "sends carried out at a time");
        yield return ("maxSendWaitMs", options.MaxSendWaitMs, 0, "milliseconds that a send may wait for the store");
    }

    sealed class Nothing : IDisposable
    {
        public void Dispose() { }
    }

    sealed class Counted(UsageLimits limits, string space, string user, IPAddress? network) : IDisposable
    {
        bool isOver;

        public void Dispose()
        {
            if (Interlocked.Exchange(ref isOver, true)) return;
            Leave(limits.byUser, (space, user));
            if (network is not null) Leave(limits.byAddress, network);
        }
    }
}
