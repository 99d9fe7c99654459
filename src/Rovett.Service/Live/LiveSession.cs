using System.Buffers;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Core.Wire.WebSockets;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Endpoints.Live;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Spaces;
using Rovett.Service.Telemetry;

namespace Rovett.Service.Live;

/// <summary>One live connection: its state machine, and the pump that moves bytes out of it, pages into it. Its life:
/// made by <see cref="LiveEndpoint"/>, attached by the ledger, opened, run, detached.</summary>
public sealed partial class LiveSession : IOpenSession
{
    /// <summary>The state of a session that does not have everything yet.</summary>
    internal const string CatchingUp = "catching up";

    // Long pages are written in fewer pieces.
    const int BufferBytes = 12 * 1024, LongBufferBytes = 24 * 1024, MostTopicsWaiting = 16, FreeAck = 16;
    static readonly TimeSpan LastWordsPatience = TimeSpan.FromSeconds(3), LongestWarning = TimeSpan.FromMinutes(1),
        LookAgain = TimeSpan.FromMilliseconds(50);

    readonly AsyncSignal signal = new();
    readonly LiveServices services;
    volatile ISessionSide side;
    readonly string? ticket;
    IDisposable place;
    Bucket? messages; // made when its device says something
    readonly bool isTimed;
    SessionTraces? traces;
    long acked;
    volatile Credential credential;
    StoredTime endsAt, warnAt; // due times: a clock that is set back makes no credential last longer
    bool warned;
    SessionFeeder feeder;
    ReadPlan? plan;
    bool isAttached, isOpen;
    volatile Session machine = null!; // set when it is attached
    ChannelList channels = new([], []);
    readonly Lock gate = new();
    Task topicWork = Task.CompletedTask;
    int topicsWaiting;
    bool knownSilent;
    long heardAtMs;
    TimeSpan? endedAt;

    internal LiveSession(LiveServices services, ISessionSide side, IDisposable place, SpaceRuntime space, Credential credential,
        string? ticket, string device, string? label, TransportKind transport, bool heartbeatAsEvent)
    {
        this.services = services;
        this.side = side;
        this.credential = credential;
        this.ticket = ticket;
        this.place = place;
        isTimed = services.IsTimed();
        WarnInTime();
        feeder = new SessionFeeder(services.History, side.RecentOf(space), space.Cursors);
        Space = space;
        Device = device;
        Label = label;
        Transport = transport;
        HeartbeatAsEvent = heartbeatAsEvent;
        Since = StoredTime.From(services.Clock.GetUtcNow());
        Id = services.Me is { } me ? $"{Secrets.NewId()}.{me.Tag}" : Secrets.NewId();
        HeardNow();
    }

    /// <inheritdoc/>
    public string Id { get; }
    /// <inheritdoc/>
    public SpaceRuntime Space { get; }
    /// <inheritdoc/>
    public string User => credential.Identity.User.Value;
    /// <inheritdoc/>
    public Credential Credential => credential;
    internal Faults Faults => services.Faults;
    /// <inheritdoc/>
    public string Device { get; }
    /// <inheritdoc/>
    public string? Label { get; }
    /// <summary>The framing of its bytes.</summary>
    public TransportKind Transport { get; }
    /// <inheritdoc/>
    public int Window => services.Session.Window;
    /// <inheritdoc/>
    public IReadOnlyList<string> Tried { get; init; } = [];
    /// <inheritdoc/>
    public string TransportName => IOpenSession.NameOf(Transport);
    /// <summary>Where its requests are answered, when it is polled.</summary>
    internal PollTransport? Poll { get; init; }
    /// <summary>The request that its connection began with; null when it is polled.</summary>
    internal HttpContext? Request { get; init; }
    /// <inheritdoc/>
    public StoredTime Since { get; }
    /// <summary>Heartbeats as events, for an EventSource, which can't see comments.</summary>
    public bool HeartbeatAsEvent { get; }
    /// <summary>The state machine; set when the ledger attached it.</summary>
    public Session Machine { get => machine; private set => machine = value; }

    /// <inheritdoc/>
    public (UserState User, ISessionPort Session)? Place => Machine is { IsEnded: false } ? side.Place : null;

    /// <summary>Its space is served by this process.</summary>
    internal bool IsServedHere => side is HereSide;

    /// <inheritdoc/>
    public int Outstanding => Machine?.Outstanding ?? 0;

    /// <inheritdoc/>
    public long Sent => Machine?.TotalSent ?? 0;

    /// <summary>Bytes written to its connection.</summary>
    public long Bytes { get; private set; }

    /// <summary>Notifications that its device acknowledged.</summary>
    public long Acked => Volatile.Read(ref acked);

    /// <inheritdoc/>
    public Position? Through => Machine is { Through: > 0 and var through } ? new Position(through) : null;

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
        var opened = await side.Attach(this, new DevicePoint(after, foreignCursor));
        isAttached = true;
        plan = opened.Plan;
        channels = opened.Channels;
        OpenMachine(Machine, opened, after, foreignCursor);
        isOpen = true;
        services.Meters.Opened(Space.Name, TransportName);
    }

    /// <summary>Opens the state machine with its first messages.</summary>
    void OpenMachine(Session machine, Opening opened, long? after, bool foreignCursor)
    {
        IReadOnlyList<ControlMessage> words = [];
        var start = opened.LiveFrom ?? feeder.Begin(plan!, after, foreignCursor, machine.PageSize, out words);
        var first = new List<ControlMessage>
        {
            Messages.Opened(Id, User, Space.Name, opened.Channels, opened.Totals, Space.Cursors.Seal(start), services.Session.Window,
                (int)services.Session.Heartbeat.TotalSeconds, TransportName, Device, StoredTime.From(services.Clock.GetUtcNow())),
        };
        if (opened.Choices is { } choices) first.Add(choices);
        first.AddRange(words);
        machine.Open(first, start);
    }

    /// <summary>Takes it from its user.</summary>
    internal Task Detach()
    {
        place.Dispose();
        return isAttached ? side.Detach() : Task.CompletedTask;
    }

    /// <summary>Writes whatever the machine has until it has ended and its last words are out.</summary>
    internal async Task Pump(ISessionOutput output)
    {
        try
        {
            for (; ; )
            {
                var machine = Machine;
                if (Stays && machine.WaitsToOpen)
                {
                    await Reopen(machine);
                    continue;
                }
                int size = machine.TakesLongPages ? LongBufferBytes : BufferBytes;
                var buffer = ArrayPool<byte>.Shared.Rent(size);
                try
                {
                    for (; ; )
                    {
                        bool hasLastWords = machine.IsEnded;
                        if (Stays && !side.MayWrite && machine.HasWords && !hasLastWords && !await IsServedAgain(machine)) break;
                        int count = machine.Drain(buffer.AsSpan(0, size), out var large);
                        if (count == 0 && large is null) break;
                        if (side is { MayWrite: false } served && !hasLastWords)
                        {
                            // What was taken may be revoked by the time it may be written.
                            if (await IsServedAgain(machine)) MoveAway(served, Messages.Ending("moved", services.Options.ComeBackWithinMs));
                            break;
                        }
                        if (Stays && !machine.Begins()) break; // the drained messages go to its successor
                        var writing = output.Write(large ?? buffer.AsMemory(0, count));
                        // One that takes what it is given has its next page read meanwhile.
                        try
                        {
                            if (!writing.IsCompleted && machine.TakesLongPages) await Supply(machine);
                        }
                        finally
                        {
                            await writing; // the buffer is its own until then
                        }
                        Bytes += large?.Length ?? count;
                        var sent = machine.Written(Now, Thread.GetCurrentProcessorId());
                        if (Traces.AreWanted && machine.TakeTraced() is { } traced)
                            (traces ??= new SessionTraces(Space.Name, TransportName, services.Clock)).Dispatched(traced);
                        if (isTimed && sent is { } at) services.Meters.WasWritten(Space.Name, TransportName, at);
                    }
                }
                finally
                {
                    ArrayPool<byte>.Shared.Return(buffer);
                }
                if (machine.IsDone && IsCurrent(machine)) return; // it may have ended since the queue was found empty
                if (machine.IsEnded) continue;
                if (await Supply(machine)) continue;
                if (await signal.Wait()) services.Ledger.WriterBegun();
            }
        }
        finally
        {
            // Requests that wait for the next node fail now: there will be none.
            (side as NextSide)?.Ends(Ledger.Moved(Space.Name));
        }
    }

    /// <summary>Nothing is written while another node may have taken the space, as what is written may have been revoked there. What is
    /// left then are the last words.</summary>
    /// <returns>False: the session ends, and what was taken to be written is not.</returns>
    async Task<bool> IsServedAgain(Session machine)
    {
        // One that stays is replaced, which ends it, as soon as its side is over.
        while (!side.MayWrite && (!side.IsOver || Stays) && !machine.IsEnded) await Task.Delay(LookAgain);
        if (side.MayWrite && !machine.IsEnded) return true;
        if (!Stays) machine.End(null);
        return false;
    }

    /// <summary>Whether a machine was not replaced.</summary>
    bool IsCurrent(Session machine)
    {
        lock (gate) return machine == Machine;
    }

    /// <summary>Gives the machine the page or the live feed it needs.</summary>
    /// <returns>False when it needs nothing now.</returns>
    async Task<bool> Supply(Session machine)
    {
        try
        {
            return await Supply(machine, machine.Next());
        }
        catch (ProblemException moved) when (Stays && IsMove(moved))
        {
            if (!await HasMoved(() => machine != Machine)) throw;
            return true;
        }
    }

    async Task<bool> Supply(Session machine, (SessionNeed Need, int Version) next)
    {
        var (need, version) = next;
        switch (need)
        {
            case SessionNeed.Page:
                if (plan is null || plan.Version != version)
                {
                    plan = await side.Plan();
                    if (plan is null || plan.Version != version) return true; // changed again meanwhile: ask anew
                }
                await services.PageTurns.WaitAsync();
                try
                {
                    feeder.Page(machine, plan);
                    services.Meters.ReadPage(Space.Name);
                }
                finally
                {
                    services.PageTurns.Release();
                }
                return true;
            case SessionNeed.GoLive:
                plan = null;
                await side.GoLive(version);
                return true;
            case SessionNeed.Again:
                var (found, planVersion, totals) = await side.Again(machine.TakeAgain());
                machine.Repeat(found, planVersion, totals);
                return true;
            default:
                return false;
        }
    }

    /// <summary>Something came from the device, if only a pong.</summary>
    public void HeardNow() => Volatile.Write(ref heardAtMs, (long)services.Uptime.TotalMilliseconds);

    /// <inheritdoc/>
    public void End(string reason, int? comeBackWithinMs) => Machine?.End(Messages.Ending(reason, comeBackWithinMs));

    /// <inheritdoc/>
    public void Cut()
    {
        Poll?.Cut();
        Request?.Abort();
    }

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
        if (Machine.Silent != knownSilent && isAttached) TellSilence(!knownSilent);
        // Only a WebSocket answers a ping; a dead stream shows in its writes.
        return Transport != TransportKind.WebSocket
            || Now.TotalMilliseconds - Volatile.Read(ref heardAtMs) < 3 * services.Session.Heartbeat.TotalMilliseconds;
    }

    /// <summary>A silent session is not counted as connected.</summary>
    void TellSilence(bool silent)
    {
        try
        {
            _ = side.Silent(silent).ContinueWith(static t => _ = t.Exception, TaskContinuationOptions.OnlyOnFaulted);
            knownSilent = silent;
        }
        catch (ProblemException)
        {
            // Too many commands wait: the next tick tells it.
        }
    }

    /// <inheritdoc/>
    public string StateName => Machine switch
    {
        null => "opening",
        { IsEnded: true } => "ending",
        { Silent: true } => "silent",
        { IsLive: true } => "live",
        _ => CatchingUp,
    };

    /// <inheritdoc/>
    public IEnumerable<string> ChannelNames => (Machine?.Channels ?? channels).All;
}
