using System.Buffers;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Core.Wire.WebSockets;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Endpoints.Live;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Spaces;

namespace Rovett.Service.Live;

/// <summary>One live connection: its state machine, and the pump that moves bytes out of it, pages into it. Its life:
/// made by <see cref="LiveEndpoint"/>, attached by the ledger, opened, run, detached.</summary>
public sealed partial class LiveSession
{
    const int BufferBytes = 12 * 1024, MostTopicsWaiting = 16, FreeAck = 16;
    static readonly TimeSpan LastWordsPatience = TimeSpan.FromSeconds(3), LongestWarning = TimeSpan.FromMinutes(1),
        LookAgain = TimeSpan.FromMilliseconds(50);

    readonly AsyncSignal signal = new();
    readonly LiveServices services;
    readonly string? ticket;
    readonly IDisposable place;
    readonly Bucket? messages;
    volatile Credential credential;
    StoredTime endsAt, warnAt; // due times: a clock that is set back makes no credential last longer
    bool warned;
    readonly SessionFeeder feeder;
    ReadPlan? plan;
    UserState? user;
    ChannelList channels = new([], []);
    readonly Lock topicGate = new();
    Task topicWork = Task.CompletedTask;
    int topicsWaiting;
    bool knownSilent;
    long heardAtMs;
    TimeSpan? endedAt;

    internal LiveSession(LiveServices services, IDisposable place, SpaceRuntime space, Credential credential, string? ticket, string device,
        string? label, TransportKind transport, bool heartbeatAsEvent)
    {
        this.services = services;
        this.credential = credential;
        this.ticket = ticket;
        this.place = place;
        messages = services.Options.MessagesPerSecond > 0 ? new Bucket(services.Options.MessagesPerSecond, services.Clock) : null;
        WarnInTime();
        feeder = new SessionFeeder(services.History, services.Recent.Of(space.Name), space.Cursors);
        Space = space;
        Device = device;
        Label = label;
        Transport = transport;
        HeartbeatAsEvent = heartbeatAsEvent;
        Since = StoredTime.From(services.Clock.GetUtcNow());
        HeardNow();
    }

    /// <summary>The session's id: random, and known only to its device and operators.</summary>
    public string Id { get; } = Secrets.NewId();
    /// <summary>Its space.</summary>
    public SpaceRuntime Space { get; }
    /// <summary>Its user.</summary>
    public string User => credential.Identity.User.Value;
    internal Credential Credential => credential;
    internal Faults Faults => services.Faults;
    /// <summary>The name of the signing key that its credential holds by.</summary>
    public string SigningKey => credential.SigningKey;
    /// <summary>Its device.</summary>
    public string Device { get; }
    /// <summary>The device's name.</summary>
    public string? Label { get; }
    /// <summary>The framing of its bytes.</summary>
    public TransportKind Transport { get; }
    /// <summary>How many may be sent to it before it acknowledges some.</summary>
    public int Window => services.Session.Window;
    /// <summary>What its device says that it tried before, and why that did not work.</summary>
    public IReadOnlyList<string> Tried { get; init; } = [];
    /// <summary>The transport's name in messages.</summary>
    public string TransportName =>
        Transport switch { TransportKind.WebSocket => "websocket", TransportKind.Sse => "sse", _ => "long-poll" };
    /// <summary>Where its requests are answered, when it is polled.</summary>
    internal PollTransport? Poll { get; init; }
    /// <summary>When it began.</summary>
    public StoredTime Since { get; }
    /// <summary>Heartbeats as events, for an EventSource, which can't see comments.</summary>
    public bool HeartbeatAsEvent { get; }
    /// <summary>The state machine; set when the ledger attached it.</summary>
    public Session Machine { get; private set; } = null!;

    /// <summary>How the ledger knows it, as long as it is attached.</summary>
    internal (UserState User, ISessionPort Session)? Place => user is not null && Machine is { IsEnded: false } ? (user, Machine) : null;

    TimeSpan Now => services.Uptime;

    /// <summary>The session's credential if it was opened with exactly this token, in this space, and holds still;
    /// otherwise null.</summary>
    internal Credential? CredentialOf(string token, SpaceRuntime space) =>
        space == Space && services.Clock.Due < endsAt && credential.IsOf(token) ? credential : null;

    /// <summary>Whether it was opened with exactly this ticket.</summary>
    internal bool IsOpenedBy(string shown) => ticket == shown;

    /// <summary>A device hears a minute before its credential ends, or when a quarter of its time is left, whichever is later.</summary>
    void WarnInTime()
    {
        endsAt = services.Clock.DueAt(StoredTime.From(credential.Expires));
        warnAt = new StoredTime(
            endsAt.Micros - Math.Min((endsAt.Micros - services.Clock.Due.Micros) / 4, (long)LongestWarning.TotalMicroseconds));
        warned = false;
    }

    void Wake()
    {
        if (signal.Set()) services.Ledger.WriterWoken();
    }

    /// <summary>Attaches it to its user and says the first words.</summary>
    /// <param name="after">What the device has: a position; null when it named none; long.MaxValue for "now".</param>
    /// <param name="foreignCursor">The cursor it named is not of this store's present life.</param>
    /// <exception cref="ProblemException">The store can't be used now.</exception>
    internal async Task Attach(long? after, bool foreignCursor)
    {
        Machine = new Session(Transport, services.Session, Now, Wake);
        var opened = await services.Ledger.Ask(
            new AttachCommand(Space.Name, credential.Identity, Device, Machine, new DevicePoint(after, foreignCursor)));
        plan = opened.Plan;
        user = opened.User;
        channels = opened.Channels;
        IReadOnlyList<ControlMessage> words = [];
        var start = opened.LiveFrom ?? feeder.Begin(plan!, after, foreignCursor, Machine.PageSize, out words);
        var first = new List<ControlMessage>
        {
            Messages.Opened(Id, User, Space.Name, opened.Channels, opened.Totals, Space.Cursors.Seal(start), services.Session.Window,
                (int)services.Session.Heartbeat.TotalSeconds, TransportName, Device, StoredTime.From(services.Clock.GetUtcNow())),
        };
        if (opened.Choices is { } choices) first.Add(choices);
        first.AddRange(words);
        Machine.Open(first, start);
        if (opened.FollowsInactive) _ = services.Topics.Returned(Space, User);
    }

    /// <summary>Takes it from its user.</summary>
    internal Task Detach()
    {
        place.Dispose();
        return Leave();
    }

    async Task Leave()
    {
        if (user is null) return;
        try
        {
            await services.Ledger.Ask(new DetachCommand(Space.Name, user, Machine));
        }
        catch (Exception error) when (error is ProblemException || LedgerPump.IsStoreFailure(error))
        {
            // It is detached in memory all the same; a ledger that takes no more commands forgets everybody.
        }
    }

    /// <summary>Writes whatever the machine has until it has ended and its last words are out.</summary>
    internal async Task Pump(ISessionOutput output)
    {
        for (; ; )
        {
            var buffer = ArrayPool<byte>.Shared.Rent(BufferBytes);
            try
            {
                while (Machine.Drain(buffer.AsSpan(0, BufferBytes), out var large) is var count && (count > 0 || large is not null))
                {
                    if ((!services.Lease.Holds || Space.IsDeposed) && !await IsServedAgain()) break;
                    var writing = output.Write(large ?? buffer.AsMemory(0, count));
                    // One that takes what it is given has its next page read meanwhile.
                    try
                    {
                        if (!writing.IsCompleted && Machine.TakesLongPages) await Supply();
                    }
                    finally
                    {
                        await writing; // the buffer is its own until then
                    }
                    Machine.Written(Now, Thread.GetCurrentProcessorId());
                }
            }
            finally
            {
                ArrayPool<byte>.Shared.Return(buffer);
            }
            if (Machine.IsDone) return; // it may have ended since the queue was found empty
            if (Machine.IsEnded) continue;
            if (await Supply()) continue;
            if (await signal.Wait()) services.Ledger.WriterBegun();
        }
    }

    /// <summary>Nothing is written while another node may have taken the space, as what is written may have been revoked there.</summary>
    /// <returns>False: the session ends.</returns>
    async Task<bool> IsServedAgain()
    {
        while (!services.Lease.Holds && !Space.IsDeposed && !Machine.IsEnded) await Task.Delay(LookAgain);
        if (services.Lease.Holds && !Space.IsDeposed) return true;
        Machine.End(null);
        return false;
    }

    /// <summary>Gives the machine the page or the live feed it needs.</summary>
    /// <returns>False when it needs nothing now.</returns>
    async Task<bool> Supply()
    {
        var (need, version) = Machine.Next();
        switch (need)
        {
            case SessionNeed.Page:
                if (plan is null || plan.Version != version)
                {
                    plan = await services.Ledger.Ask(new PlanCommand(Space.Name, User, Machine));
                    if (plan is null || plan.Version != version) return true; // changed again meanwhile: ask anew
                }
                await services.PageTurns.WaitAsync();
                try
                {
                    feeder.Page(Machine, plan);
                }
                finally
                {
                    services.PageTurns.Release();
                }
                return true;
            case SessionNeed.GoLive:
                plan = null;
                await services.Ledger.Ask(new GoLiveCommand(Space.Name, User, Machine, version));
                return true;
            case SessionNeed.Again:
                var (found, planVersion, totals) =
                    await services.Ledger.Ask(new AgainCommand(Space.Name, user!, Machine, Machine.TakeAgain()));
                Machine.Repeat(found, planVersion, totals);
                return true;
            default:
                return false;
        }
    }

    /// <summary>Something came from the device, if only a pong.</summary>
    public void HeardNow() => Volatile.Write(ref heardAtMs, (long)services.Uptime.TotalMilliseconds);

    /// <summary>Ends it with a reason.</summary>
    /// <param name="reason">The word in the <c>ending</c> message.</param>
    /// <param name="comeBackWithinMs">When to come back; null: not with this credential.</param>
    public void End(string reason, int? comeBackWithinMs) => Machine?.End(Messages.Ending(reason, comeBackWithinMs));

    /// <summary>The other side ended it, or is gone: no last words.</summary>
    public void Closed() => Machine?.End(null);

    /// <summary>Time passed: heartbeats, questions for acks, the token's end, and whether anybody is still there.</summary>
    /// <returns>False when the connection is to be cut: the device has said nothing for so long that it is dead, or does
    /// not even take the last words.</returns>
    internal bool Tick()
    {
        if (Machine is null) return true;
        if (Machine.IsEnded)
        {
            endedAt ??= Now;
            return Now - endedAt < LastWordsPatience;
        }
        var now = services.Clock.Due;
        if (now >= endsAt) End("token-expired", null);
        else if (!warned && now >= warnAt)
        {
            warned = true;
            Machine.Say(Messages.Expiring(StoredTime.From(credential.Expires)));
        }
        if (Machine.Tick(Now))
        {
            if (Transport == TransportKind.WebSocket) Machine.Raw(FrameWriter.Frame(Opcode.Ping, []));
            else if (Transport == TransportKind.Sse && !HeartbeatAsEvent) Machine.Raw([(byte)':', (byte)'\n', (byte)'\n']);
            // A page sees neither pings nor, by an EventSource, comments.
            if (HeartbeatAsEvent && Transport != TransportKind.LongPoll)
            {
                Machine.Say(Messages.Heartbeat(StoredTime.From(services.Clock.GetUtcNow())));
            }
        }
        if (Machine.Silent != knownSilent && user is not null) TellSilence(!knownSilent);
        // Only a WebSocket answers a ping; a dead stream shows in its writes.
        return Transport != TransportKind.WebSocket
            || Now.TotalMilliseconds - Volatile.Read(ref heardAtMs) < 3 * services.Session.Heartbeat.TotalMilliseconds;
    }

    /// <summary>A silent session is not counted as connected.</summary>
    void TellSilence(bool silent)
    {
        try
        {
            _ = services.Ledger.Ask(new SilenceCommand(Space.Name, user!, Machine, silent))
                .ContinueWith(static t => _ = t.Exception, TaskContinuationOptions.OnlyOnFaulted);
            knownSilent = silent;
        }
        catch (ProblemException)
        {
            // Too many commands wait: the next tick tells it.
        }
    }

    /// <summary>How it is, in a word.</summary>
    public string StateName => Machine switch
    {
        null => "opening",
        { IsEnded: true } => "ending",
        { Silent: true } => "silent",
        { IsLive: true } => "live",
        _ => "catching up",
    };

    /// <summary>The channels it is on.</summary>
    public IEnumerable<string> ChannelNames => (Machine?.Channels ?? channels).All;
}
