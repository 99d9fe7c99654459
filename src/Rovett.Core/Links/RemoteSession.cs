using System.Collections.Concurrent;
using Rovett.Core.Delivery;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Links;

/// <summary>A session that another node holds, as the ledger of its space uses it: everything goes to that node, in order.</summary>
/// <param name="port">Where it goes.</param>
/// <param name="number">The session's number on the link.</param>
/// <param name="room">How many entries may be queued before its device has read any.</param>
public sealed class RemoteSession(LinkPort port, uint number, int room) : ISessionPort
{
    readonly ConcurrentDictionary<string, Action> showAgain = new(); // by address: what to do when its presence was left out
    int plan;
    DispatchMark user = null!; // both set by Join
    DispatchMark[] marks = null!;

    /// <inheritdoc/>
    public void Join(int plan, DispatchMark user, DispatchMark[] marks) => (this.plan, this.user, this.marks) = (plan, user, marks);

    /// <inheritdoc/>
    public void Joined()
    {
        var joined = new Frames.Joined { Session = number, Plan = plan };
        foreach (var mark in marks.AsSpan()[..^1]) joined.Marks.Add(mark.Through);
        port.Add(_ => new Frames.Op { Joined = joined });
        port.Flush(); // what it is asked next is answered after it
    }

    /// <inheritdoc/>
    public bool HasRoomFor(int entries) => entries <= room;

    /// <summary>Presence of an address was left out, as too much waits for its device.</summary>
    public void LeftOut(string address)
    {
        if (showAgain.TryGetValue(address, out var again)) again();
    }

    /// <summary>Its connection took everything up to a position.</summary>
    /// <param name="through">The position.</param>
    /// <returns>What no connection of the user had taken before lies after this position.</returns>
    public long Written(long through)
    {
        marks[^1].Advance(through);
        return user.Advance(through);
    }

    /// <inheritdoc/>
    public bool Offer(EntryRun run, long rev, long unread, bool isLast) => port.Offer(number, run, rev, unread);

    /// <inheritdoc/>
    public bool OfferPassing(string key, ControlMessage message, Action? leftOut)
    {
        if (leftOut is not null && message.Shows is { } shown) showAgain[shown.Address] = leftOut;
        return port.Add(p => new Frames.Op { Passing = new Frames.Passing { Session = number, Key = key, Message = p.IndexOf(message) } });
    }

    /// <summary>The newest list of channels that it was told; null: none since it began.</summary>
    public ChannelList? Channels { get; private set; }

    /// <inheritdoc/>
    public bool Tell(ControlMessage message)
    {
        if (message.Channels is { } list) Channels = list;
        return port.Tell(number, message);
    }

    /// <inheritdoc/>
    public bool TellMissed(long head, IReadOnlyList<(long Position, ControlMessage Message)> missed) => port.Add(p => new Frames.Op
    {
        Missed = new Frames.Missed
        {
            Session = number,
            Head = head,
            Positions = { missed.Select(m => m.Position) },
            Messages = { missed.Select(m => p.IndexOf(m.Message)) },
        },
    });

    /// <inheritdoc/>
    public bool TotalsMissed() => port.Add(_ => new Frames.Op { TotalsMissed = number });

    /// <inheritdoc/>
    public bool EnterLive(long from, IReadOnlyList<(PageItem Item, long Rev, long Unread)> rest, string cursor, long position,
        Totals totals) => port.Add(p => new Frames.Op
        {
            Live = new Frames.Live
            {
                Session = number,
                From = from,
                Rest = { rest.Select(r => p.Of(r.Item, r.Rev, r.Unread)) },
                Cursor = cursor,
                Head = position,
                Totals = LinkCodec.Of(totals),
            },
        });

    /// <inheritdoc/>
    public bool StayBehind() => port.Add(_ => new Frames.Op { StayBehind = number });

    /// <inheritdoc/>
    public bool PlanChanged(int version, Sight? sight) => port.Add(_ => new Frames.Op
    { Plan = new Frames.Plan { Session = number, Version = version, Sight = LinkCodec.Of(sight) } });

    /// <inheritdoc/>
    public void Flush() => port.Flush();

    /// <inheritdoc/>
    public void Dismiss(ControlMessage lastWords) => End(lastWords, moves: false);

    /// <inheritdoc/>
    public void MoveAway(ControlMessage lastWords) => End(lastWords, moves: true);

    void End(ControlMessage lastWords, bool moves)
    {
        port.Add(p => new Frames.Op { Ended = new Frames.Ended { Session = number, Message = p.IndexOf(lastWords), Moves = moves } });
        port.Flush();
    }
}
