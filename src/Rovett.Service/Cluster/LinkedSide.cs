using System.Net;
using Google.Protobuf;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Links;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Service.Credentials;
using Rovett.Service.Live;
using Rovett.Service.Spaces;
using Frames = Rovett.Core.Links.Frames;

namespace Rovett.Service.Cluster;

/// <summary>That another node serves the space of a request.</summary>
/// <param name="Link">The link to that node.</param>
/// <param name="Anew">Finds who serves it by now; null: this process. Throws a <see cref="ProblemException"/> when nobody does.</param>
sealed record LinkedSpace(HoldingLink Link, Func<Task<LinkedSpace?>> Anew);

/// <summary>Another node serves the session's space.</summary>
/// <param name="services">What sessions need.</param>
/// <param name="link">The link to that node.</param>
/// <param name="address">Where the device connects from.</param>
sealed class LinkedSide(LiveServices services, HoldingLink link, IPAddress? address) : ISessionSide
{
    const int MostReported = 4096;

    LiveSession session = null!; // both set by Attach
    uint number;
    Session machine = null!;
    readonly Lock gate = new();
    readonly List<HeldAck> acknowledged = []; // and not confirmed yet
    bool hasLeft;
    List<long> notifications = [];
    long through;
    (string State, int Outstanding) reported;

    public bool MayWrite => link.Holds && services.Lease.Holds;

    public bool IsOver => link.IsOver;

    public (UserState User, ISessionPort Session)? Place => null;

    public RecentEntries RecentOf(SpaceRuntime space) => link.Held.RecentOf(space.Id);

    public async ValueTask<Credential> Check(string token, SpaceRuntime space, bool whereServed)
    {
        // A stand-in's token is known only to the node that made it.
        if (!whereServed && !token.StartsWith(StandIns.Prefix, StringComparison.Ordinal)) return await services.Tokens.Check(token, space);
        var answer = await link.Ask(new Frames.Ask { Check = new Frames.Token { Space = space.Name, Token_ = token } });
        return ServedLink.Read(answer.Credential) with { TokenHash = TokenHash.Of(token) };
    }

    public async Task<Opening> Attach(LiveSession session, DevicePoint at)
    {
        this.session = session;
        machine = session.Machine;
        machine.Taken = Took;
        if (session.Stays) machine.Moves = words => session.MoveAway(this, words);
        var attach = new Frames.Attach
        {
            Space = session.Space.Name,
            Credential = ServedLink.Of(session.Credential),
            Device = session.Device,
            Foreign = at.Foreign,
            Room = machine.Room,
            Id = session.Id,
            Transport = (int)session.Transport,
            Since = session.Since.Micros,
            Tried = { session.Tried },
            Address = address?.ToString() ?? "",
            Life = session.Space.Cursors.Life,
        };
        // The token of a session that stays is not kept, so it can't be read again.
        if (machine.WaitsToOpen) attach.Credential.Identity.FromToken = false;
        if (at.After is { } after) attach.After = after;
        if (session.Label is { } label) attach.Label = label;
        number = link.Enter(this, machine);
        try
        {
            var opened = (await link.Ask(new Frames.Ask { Session = number, Attach = attach })).Opened;
            lock (gate) reported = default; // what was reported before it was let in was of nobody
            return new Opening(LinkCodec.Read(opened.Channels), LinkCodec.Read(opened.Totals),
                opened.HasLiveFrom ? new Position(opened.LiveFrom) : null, LinkCodec.Read(opened.Choices), LinkCodec.Read(opened.Plan));
        }
        catch
        {
            link.Leave(this, number);
            throw;
        }
    }

    public async Task Detach()
    {
        if (!link.IsOver) link.Tell(new Frames.FromHolder { Reports = new Frames.Reports { Written = { TakeWritten() } } });
        link.Leave(this, number);
        try
        {
            await link.Ask(new Frames.Ask { Session = number, Detach = new Frames.Nothing() });
        }
        catch (Exception error) when (error is ProblemException or InvalidOperationException)
        {
            // Who serves the space takes sessions from their users when a link breaks, and logs its own bugs.
        }
    }

    /// <summary>Whoever served it is not reached any more.</summary>
    public void Ended(int comeBackWithinMs) => session.MoveAway(this, Messages.Ending("moved", comeBackWithinMs));

    public List<(bool Handled, List<AckedRun> Runs)> Leave()
    {
        lock (gate)
        {
            hasLeft = true;
            return acknowledged.ConvertAll(a => (a.Handled, a.Runs));
        }
    }

    /// <summary>The connection took notifications.</summary>
    void Took(IReadOnlyList<(EntryRun Run, int From, int To)> taken)
    {
        lock (gate)
        {
            foreach (var (run, from, to) in taken)
            {
                through = Math.Max(through, run.Place.Position + to - 1);
                if (!run.AreNotifications || notifications.Count >= MostReported) continue; // of those far behind, all have been counted
                for (int i = from; i < to; i++) notifications.Add(run.Place.Position + i);
            }
        }
        link.HasWritten(this);
    }

    /// <summary>It is otherwise than it was reported last.</summary>
    public bool IsOtherwise
    {
        get
        {
            // Before the lock, which is taken while the session's own is held.
            var now = (session.StateName, session.Outstanding);
            lock (gate) return reported != now;
        }
    }

    /// <summary>What the connection has taken since the last of these.</summary>
    public Frames.Written TakeWritten()
    {
        var written = new Frames.Written
        { Session = number, Sent = session.Sent, Outstanding = session.Outstanding, State = session.StateName };
        lock (gate)
        {
            written.Through = through;
            written.Notifications.Add(notifications);
            notifications = [];
            reported = (written.State, written.Outstanding);
        }
        return written;
    }

    async Task<Frames.Answer> Ask(Frames.Ask ask)
    {
        ask.Session = number;
        return await link.Ask(ask);
    }

    public async Task<ReadPlan?> Plan() => LinkCodec.Read((await Ask(new Frames.Ask { Plan = new Frames.Nothing() })).Plan);

    public Task GoLive(int planVersion) =>
        Ask(new Frames.Ask { GoLive = new Frames.GoLive { Version = planVersion, Through = machine.Through } });

    public async Task<(IReadOnlyList<(AgainItem Item, EntryWire Wire)> Found, int PlanVersion, Totals Totals)> Again(
        IReadOnlyList<AgainItem> items)
    {
        var again = new Frames.Again();
        foreach (var item in items)
        {
            again.Items.Add(new Frames.AgainItem
            { Position = item.Position, Log = item.Log, Ordinal = item.Ordinal, Attempt = item.Attempt });
        }
        var repeats = (await Ask(new Frames.Ask { Again = again })).Repeats;
        var entries = repeats.Entries.Select(LinkCodec.Read).ToList();
        return ([.. repeats.Items.Select(i => (new AgainItem(i.Position, i.Log, i.Ordinal, i.Wire.Attempt),
            entries[(int)i.Wire.Entry].WireFor(i.Wire.Address, i.Wire.Attempt, counted: i.Wire.Counted)))], repeats.Version,
            LinkCodec.Read(repeats.Totals));
    }

    public Task Silent(bool isSilent) => Ask(new Frames.Ask { Silent = isSilent });

    public Task Identify(Credential renewed) => Ask(new Frames.Ask { Identify = ServedLink.Of(renewed).Identity });

    public async Task<ControlMessage?> Handle(DeviceMessage message) =>
        LinkCodec.Read((await Ask(new Frames.Ask { Device = UnsafeByteOperations.UnsafeWrap(message.Raw) })).Message);

    public void Acknowledged(bool handled, List<AckedRun> acked)
    {
        if (acked.Count == 0) return;
        var held = new HeldAck(this, handled, acked);
        lock (gate)
        {
            if (!hasLeft)
            {
                if (session.Stays) acknowledged.Add(held);
                if (acknowledged.Count > MostReported) acknowledged.RemoveAt(0); // nodes of earlier versions never confirm
                link.HasAcknowledged(held);
                return;
            }
        }
        session.AcknowledgedAgain(handled, acked);
    }

    /// <summary>An acknowledgement as a frame of the link.</summary>
    public Frames.Acked FrameOf(HeldAck held) =>
        LinkCodec.Of(session.Space.Name, session.User, session.Device, held.Handled, held.Runs);

    /// <summary>An acknowledgement is stored.</summary>
    public void IsWritten(HeldAck held)
    {
        lock (gate) acknowledged.Remove(held);
    }

    public Task StoreAcknowledged(bool handled, List<AckedRun> acked) =>
        Ask(new Frames.Ask { Store = LinkCodec.Of(session.Space.Name, session.User, session.Device, handled, acked) });
}

/// <summary>An acknowledgement that is kept until the serving node confirms that it is stored.</summary>
sealed class HeldAck(LinkedSide side, bool handled, List<AckedRun> runs)
{
    /// <summary>The session's side.</summary>
    public LinkedSide Side => side;

    /// <summary>A handler ran.</summary>
    public bool Handled => handled;

    /// <summary>What it is about.</summary>
    public List<AckedRun> Runs => runs;
}
