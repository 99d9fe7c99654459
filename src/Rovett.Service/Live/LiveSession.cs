using System.Buffers;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Marks;
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
public sealed class LiveSession
{
    const int BufferBytes = 12 * 1024, MostTopicsWaiting = 16, FreeAck = 16;
    static readonly TimeSpan LastWordsPatience = TimeSpan.FromSeconds(3), LongestWarning = TimeSpan.FromMinutes(1);

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
    /// <summary>What the device calls itself.</summary>
    public string? Label { get; }
    /// <summary>How its bytes are framed.</summary>
    public TransportKind Transport { get; }
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
            if (Machine.IsEnded) return;
            if (await Supply()) continue;
            if (await signal.Wait()) services.Ledger.WriterBegun();
        }
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

    /// <summary>Counts a message of the device.</summary>
    /// <returns>How long to wait before it is taken.</returns>
    internal TimeSpan TakeMessage() => messages?.Take(out _) ?? TimeSpan.Zero;

    /// <summary>Counts the messages of one request, each of them; none to ask whether one would be taken now.</summary>
    /// <returns>How long to wait before they are taken; zero: they are.</returns>
    internal TimeSpan TakeMessages(int count) => messages?.TakeAll(count) ?? TimeSpan.Zero;

    /// <summary>Carries out a message about a topic after those that came before it, and says the answer: a backend may be asked,
    /// which nothing else of this session waits for.</summary>
    internal async ValueTask HandleTopic(DeviceMessage message)
    {
        Task before;
        lock (topicGate)
        {
            before = topicWork;
            topicWork = After(before, message);
        }
        if (Interlocked.Increment(ref topicsWaiting) > MostTopicsWaiting) await before; // read slower
    }

    async Task After(Task before, DeviceMessage message)
    {
        await before;
        try
        {
            if (await Handle(message) is { } answer && !Machine.Answer(answer)) Closed();
        }
        catch (Exception error)
        {
            services.Faults.Thrown(Space.Name, "message " + message.Kind, error);
            Closed(); // as an error in any other message ends its connection
        }
        finally
        {
            Interlocked.Decrement(ref topicsWaiting);
        }
    }

    /// <summary>Carries out a message of the device.</summary>
    /// <returns>The answer, or null when none is wanted.</returns>
    public async Task<ControlMessage?> Handle(DeviceMessage message)
    {
        HeardNow();
        Machine.HeardAnything(Now);
        if (Machine.IsEnded) return null; // what it says came too late, though its connection is not closed yet
        if (Space.IsRemoved)
        {
            End("space-removed", null);
            return null;
        }
        if (message.Problem is { } problem) return Messages.Refused(message.RequestId, problem);
        try
        {
            switch (message.Kind)
            {
                case DeviceMessageKind.Ack:
                    return await Acknowledge(message);
                case DeviceMessageKind.Renew:
                    return await Renew(message);
                case DeviceMessageKind.Attend:
                    await services.Ledger.Ask(new AttendCommand(Space.Name, user!, Machine, message.Subject));
                    return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
                case DeviceMessageKind.Take or DeviceMessageKind.Release:
                    var taken = await services.Ledger.Ask(
                        new TakeCommand(Space.Name, User, message.Id, message.Kind == DeviceMessageKind.Take, credential.Identity));
                    return Messages.Done(message.RequestId, taken.Totals);
                case DeviceMessageKind.Subscribe:
                    await services.Topics.Subscribe(Space, user!, Machine, message.Topic, message.After);
                    return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
                case DeviceMessageKind.Say:
                    await services.Topics.Say(Space, user!, Machine, message.Topic, message.Data, message.ToSelf);
                    return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
                case DeviceMessageKind.Watch:
                    await services.Topics.Watch(Space, user!, Machine, message.Address);
                    return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
                case DeviceMessageKind.Unwatch:
                    await services.Ledger.Ask(new UnwatchCommand(Space.Name, user!, Machine, message.Address));
                    return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
                case DeviceMessageKind.Unsubscribe:
                    await services.Ledger.Ask(new UnsubscribeCommand(Space.Name, user!, Machine, message.Topic));
                    return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
                case DeviceMessageKind.Follow:
                    return Messages.Done(message.RequestId,
                        (await services.Topics.Follow(Space, credential.Identity, message.Topic)).Totals);
                case DeviceMessageKind.Unfollow:
                    return Messages.Done(message.RequestId,
                        (await services.Topics.Unfollow(Space, credential.Identity, message.Topic)).Totals);
                default:
                    var verb = message.Kind == DeviceMessageKind.MarkRead ? MarkVerb.Read : MarkVerb.Unread;
                    var totals = await services.Marks.Mark(Space.Name, credential.Identity, verb, message.Marks!, Device, Machine);
                    return Messages.Done(message.RequestId, totals.Totals);
            }
        }
        catch (ProblemException refused)
        {
            return Messages.Refused(message.RequestId, refused.Problem);
        }
        catch (Exception error) when (LedgerPump.IsStoreFailure(error))
        {
            return Messages.Refused(message.RequestId, LedgerPump.StoreFailed());
        }
    }

    /// <summary>A newer token of the same user takes the place of the session's own; its roles count from now on.</summary>
    async ValueTask<ControlMessage?> Renew(DeviceMessage message)
    {
        var renewed = await services.Tokens.Check(message.Token!, Space);
        if (renewed.Identity.User != credential.Identity.User)
            return Messages.Refused(message.RequestId,
                new Problem(403, "token-of-another-user", "Token of another user", "A session belongs to one user.",
                "Open another session for that user."));
        if (renewed.Identity.IssuedAtMicros < credential.Identity.IssuedAtMicros)
            return Messages.Refused(message.RequestId,
                new Problem(422, "token-older", "Token older than the current one",
                "It was issued before the token the session uses.", "Get a new token from your backend."));
        await services.Ledger.Ask(new IdentifyCommand(Space.Name, renewed.Identity));
        credential = renewed;
        WarnInTime();
        if (ticket is not null) services.Tickets.Renew(ticket, renewed);
        if (!services.Tokens.StillHolds(Space, renewed)) End("signing-key-removed", null); // while it was looked at
        return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
    }

    async ValueTask<ControlMessage?> Acknowledge(DeviceMessage message)
    {
        bool known;
        if (message.Again)
        {
            known = Machine.WantAgain([.. message.Marks!.Ids!], Now, out bool tooOften);
            if (tooOften)
            {
                return Messages.Refused(message.RequestId,
                    new Problem(409, "again-too-often", "Too many attempts",
                    $"A notification is sent at most {services.Session.MaxAttempts} times to one session.",
                    "Acknowledge it and fix the handler that fails. The notification stays in the inbox."));
            }
        }
        else
        {
            var acked = new List<AckedRun>();
            known = Machine.Acknowledge(message.Marks!.UpTo?.Position, message.Marks.Ids is { } ids ? [.. ids] : null, Now, acked);
            // One for many is what devices are asked for, and there are no more of them than the service gives cause for.
            if (acked.Sum(r => r.Run.To - r.Run.From + 1) >= FreeAck) messages?.GiveBack();
            if (message.RequestId is null || acked.Count == 0) services.Acks.Add(Space.Name, User, Device, message.Handled, acked);
            else await services.Acks.Store(Space.Name, User, Device, message.Handled, acked); // what is answered is on disk
        }
        if (!known)
        {
            return Messages.Refused(message.RequestId,
                new Problem(422, "not-outstanding", "Not outstanding",
                "One of these notifications was not sent to this session, or was acknowledged before.",
                "Acknowledge each notification of this session once."));
        }
        return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
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
