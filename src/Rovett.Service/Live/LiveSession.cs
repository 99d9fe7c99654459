using System.Buffers;
using System.Text.Json;
using Rovett.Core;
using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Ledger;
using Rovett.Core.WebSockets;
using Rovett.Service.Access;
using Rovett.Service.Operations;

namespace Rovett.Service.Live;

/// <summary>Where a session's bytes go.</summary>
public interface ISessionOutput
{
    /// <summary>Returns once the socket took the bytes.</summary>
    ValueTask Write(ReadOnlyMemory<byte> bytes);
}

/// <summary>One live connection: its state machine, and the pump that moves bytes out of it, pages into it. Its life:
/// made by <see cref="LiveEndpoint"/>, attached by the ledger, opened, run, detached.</summary>
public sealed class LiveSession
{
    const int BufferBytes = 16 * 1024;
    static readonly TimeSpan LastWordsPatience = TimeSpan.FromSeconds(3);

    readonly AsyncSignal signal = new();
    readonly LiveServices services;
    readonly Credential credential;
    ReadPlan? plan;
    UserState? user;
    IReadOnlyList<string> channels = [];
    bool unreceivedOnly;
    long heardAtMs;
    TimeSpan? endedAt;

    internal LiveSession(LiveServices services, SpaceRuntime space, Credential credential, string device, string? label, TransportKind transport, bool heartbeatAsEvent)
    {
        this.services = services;
        this.credential = credential;
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
    /// <summary>Its device.</summary>
    public string Device { get; }
    /// <summary>What the device calls itself.</summary>
    public string? Label { get; }
    /// <summary>How its bytes are framed.</summary>
    public TransportKind Transport { get; }
    /// <summary>The transport's name in messages.</summary>
    public string TransportName => Transport == TransportKind.WebSocket ? "websocket" : "sse";
    /// <summary>When it began.</summary>
    public StoredTime Since { get; }
    /// <summary>Heartbeats as events, for an EventSource, which can't see comments.</summary>
    public bool HeartbeatAsEvent { get; }
    /// <summary>The state machine; set when the ledger attached it.</summary>
    public Session Machine { get; private set; } = null!;

    TimeSpan Now => services.Uptime;

    /// <summary>Attaches it to its user and says the first words.</summary>
    /// <param name="after">What the device has: a position; null when it named none; long.MaxValue for "now".</param>
    /// <param name="foreignCursor">The cursor it named is not of this store's present life.</param>
    /// <exception cref="ProblemException">The store can't be used now.</exception>
    internal async Task Attach(long? after, bool foreignCursor)
    {
        var opened = await services.Ledger.Ask(new AttachCommand(Space.Name, credential.Identity,
            info => Machine = new Session(Transport, services.Limits, info.Plan.Version, info.User.Dispatched, Now, signal.Set), withMarks: after is null));
        plan = opened.Plan;
        user = opened.User;
        channels = opened.Channels;
        var first = new List<ControlMessage>();
        if (after is > 0 and < long.MaxValue && after > opened.Head.Value)
        {
            // From a store that was further on: another life. What no device has received is to follow, so the marks are needed.
            (after, foreignCursor) = (null, true);
            plan = await services.Ledger.Ask(new PlanCommand(Space.Name, User, withMarks: true)) ?? plan;
        }
        long start;
        if (after == long.MaxValue) start = opened.Head.Value;
        else if (after is { } position) start = position;
        else
        {
            // No cursor: from just before the first notification that no device of this user has.
            unreceivedOnly = true;
            var (items, _) = services.History.After(plan, Space.Id, 0, 1, true, static _ => true);
            start = items.Count > 0 ? items[0].Position - 1 : opened.Head.Value;
        }
        first.Add(Messages.Opened(Id, User, Space.Name, opened.Channels, opened.Totals, Space.Cursors.Seal(new Position(start)), services.Limits.Window,
            (int)services.Limits.Heartbeat.TotalSeconds, TransportName, Device, StoredTime.From(services.Clock.GetUtcNow())));
        if (foreignCursor) first.Add(Messages.Gap("new-epoch"));
        Machine.Open(first, new Position(start));
    }

    /// <summary>Takes it from its user.</summary>
    internal Task Detach() => user is null ? Task.CompletedTask : services.Ledger.Ask(new DetachCommand(Space.Name, user!, Machine));

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
                    await output.Write(large ?? buffer.AsMemory(0, count));
                    Machine.Written(Now);
                }
            }
            finally
            {
                ArrayPool<byte>.Shared.Return(buffer);
            }
            if (Machine.IsEnded) return;
            if (await Supply()) continue;
            await signal.Wait();
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
                    plan = await services.Ledger.Ask(new PlanCommand(Space.Name, User, withMarks: unreceivedOnly));
                    if (plan is null || plan.Version != version) return true; // changed again meanwhile: ask anew
                }
                var recent = services.Recent.Of(Space.Name);
                var (found, more) = services.History.After(plan, Space.Id, Machine.Through, Machine.PageSize, unreceivedOnly, p => recent.Find(p) is not null);
                var items = new List<PageItem>(found.Count);
                foreach (var (position, address, log, ordinal, entry) in found)
                {
                    var notification = recent.Find(position)
                        ?? (entry is null ? null : new OutgoingNotification(entry.Position, entry.Time, entry.Id, Space.Cursors.Seal(entry.Position), entry.Body));
                    if (notification is null) return true; // fell out of memory between the two looks: read the page again
                    items.Add(new PageItem(notification, address, log, ordinal));
                }
                Machine.Feed(items, more ? items[^1].Notification.Position.Value : plan.Head.Value, !more, version, plan.Totals.Totals);
                return true;
            case SessionNeed.GoLive:
                plan = null;
                if (await services.Ledger.Ask(new GoLiveCommand(Space.Name, User, Machine, version))) unreceivedOnly = false;
                return true;
            default:
                return false;
        }
    }

    /// <summary>Carries out a message of the device.</summary>
    /// <returns>The answer, or null when none is wanted.</returns>
    public async Task<ControlMessage?> Handle(DeviceMessage message)
    {
        HeardNow();
        Machine.HeardAnything(Now);
        if (message.Problem is { } problem) return Messages.Refused(message.RequestId, problem);
        try
        {
            if (message.Kind == DeviceMessageKind.Ack)
            {
                var acked = new List<AckedRun>();
                bool known = Machine.Acknowledge(message.Marks!.UpTo?.Position, message.Marks.Ids is { } ids ? [.. ids] : null, Now, acked);
                services.Acks.Add(Space.Name, User, Device, acked);
                if (!known) return Messages.Refused(message.RequestId, new Problem(422, "not-outstanding", "Not all of these are outstanding", "This session was not sent one of these notifications, or acknowledged it before.", "Acknowledge what came in this session, once."));
                return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
            }
            var verb = message.Kind == DeviceMessageKind.MarkRead ? MarkVerb.Read : MarkVerb.Unread;
            var totals = await services.Ledger.Ask(new MarkCommand(Space.Name, User, verb, message.Marks!, Device, Machine));
            return Messages.Done(message.RequestId, totals.Totals);
        }
        catch (ProblemException refused)
        {
            return Messages.Refused(message.RequestId, refused.Problem);
        }
        catch (Exception error) when (error is Microsoft.Data.Sqlite.SqliteException or IOException)
        {
            return Messages.Refused(message.RequestId, LedgerPump.StoreFailed());
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
        if (services.Clock.GetUtcNow() >= credential.Expires) End("token-expired", null);
        if (Machine.Tick(Now))
        {
            if (Transport == TransportKind.WebSocket) Machine.Raw(FrameWriter.Frame(Opcode.Ping, []));
            else if (HeartbeatAsEvent) Machine.Tell(Messages.Heartbeat(StoredTime.From(services.Clock.GetUtcNow())));
            else Machine.Raw([(byte)':', (byte)'\n', (byte)'\n']);
        }
        // Only a WebSocket answers a ping; a dead stream shows in its writes.
        return Transport != TransportKind.WebSocket || Now.TotalMilliseconds - Volatile.Read(ref heardAtMs) < 3 * services.Limits.Heartbeat.TotalMilliseconds;
    }

    /// <summary>Writes what operators see of it.</summary>
    public void Write(Utf8JsonWriter json)
    {
        json.WriteStartObject();
        json.WriteString("session", Id);
        json.WriteString("user", User);
        json.WriteString("device", Device);
        if (Label is not null) json.WriteString("label", Label);
        json.WriteString("transport", TransportName);
        json.WriteString("since", Since.ToString());
        json.WriteString("state", Machine is null ? "opening" : Machine.IsEnded ? "ending" : Machine.Silent ? "silent" : Machine.IsLive ? "live" : "catching up");
        json.WriteStartArray("channels");
        foreach (var channel in channels) json.WriteStringValue(channel);
        json.WriteEndArray();
        json.WriteNumber("sent", Machine?.TotalSent ?? 0);
        json.WriteNumber("outstanding", Machine?.Outstanding ?? 0);
        json.WriteEndObject();
    }
}
