using System.Collections.Concurrent;
using Rovett.Core.Delivery;
using Rovett.Core.Wire;

namespace Rovett.Core.Links;

/// <summary>The sessions that this node holds of spaces that one other node serves. What that node's commits mean for them is applied in
/// order, by one thread.</summary>
/// <param name="recent">Keeps the newest entries, as they came after their commits.</param>
/// <param name="leftOut">Hears of a session, by number, for which presence of an address was not queued, as too much waits.</param>
/// <param name="bug">Hears of bugs: where, and what was thrown.</param>
public sealed class HeldSessions(RecentBySpace recent, Action<uint, string> leftOut, Action<string, Exception> bug)
{
    readonly ConcurrentDictionary<uint, Session> sessions = new();
    readonly List<Session> toFlush = [];

    /// <summary>All of them.</summary>
    public IEnumerable<Session> All => sessions.Values;

    /// <summary>How many there are.</summary>
    public int Count => sessions.Count;

    /// <summary>The newest entries of a space.</summary>
    /// <param name="space">The store's number.</param>
    public RecentEntries RecentOf(int space) => recent.Of(space.ToString(System.Globalization.CultureInfo.InvariantCulture));

    /// <summary>A session begins; before its node is asked to let it in.</summary>
    public void Add(uint number, Session session) => sessions[number] = session;

    /// <summary>A session is over.</summary>
    public void Remove(uint number) => sessions.TryRemove(number, out _);

    /// <summary>Applies what a commit means.</summary>
    public void Apply(Frames.Commit commit)
    {
        var entries = new OutgoingEntry[commit.Entries.Count];
        var kept = entries.Length > 0 ? RecentOf(commit.Space) : null;
        for (int i = 0; i < entries.Length; i++)
        {
            // One that is known has its finished bytes already.
            entries[i] = kept!.Find(commit.Entries[i].Position) ?? LinkCodec.Read(commit.Entries[i]);
            kept.Add(entries[i]);
        }
        var messages = commit.Messages.Select(m => LinkCodec.Read(m)).ToArray();
        var runs = commit.Runs.Select(r => new EntryRun([.. r.Wires.Select(w => WireOf(entries, w))], r.Log, r.Ordinal)).ToArray();
        for (int i = 0; i < commit.Ops.Count; i++) Apply(commit.Ops[i], entries, messages, runs, isLast: i == commit.Ops.Count - 1);
        Flush();
    }

    static EntryWire WireOf(OutgoingEntry[] entries, Frames.Wire wire) =>
        entries[wire.Entry].WireFor(wire.Address, wire.Attempt, wire.Read, wire.Counted);

    void Apply(Frames.Op op, OutgoingEntry[] entries, ControlMessage[] messages, EntryRun[] runs, bool isLast)
    {
        switch (op.WhatCase)
        {
            case Frames.Op.WhatOneofCase.Offered:
                if (isLast) Flush(); // writers may start while it is still being offered to others
                var (offered, run) = (op.Offered, runs[op.Offered.Run]);
                for (int i = 0; i < offered.Sessions.Count; i++)
                {
                    int at = i;
                    On(offered.Sessions[i], s => s.Offer(run, offered.Revs[at], offered.Unreads[at], isLast));
                }
                break;
            case Frames.Op.WhatOneofCase.Told:
                foreach (uint session in op.Told.Sessions) On(session, s => s.Tell(messages[op.Told.Message]));
                break;
            case Frames.Op.WhatOneofCase.Joined:
                On(op.Joined.Session, s => Join(s, op.Joined));
                break;
            case Frames.Op.WhatOneofCase.Passing:
                On(op.Passing.Session, s => Pass(s, op.Passing, messages));
                break;
            case Frames.Op.WhatOneofCase.Live:
                var live = op.Live;
                var rest = live.Rest.Select(i => (ItemOf(entries, i), i.Rev, i.Unread)).ToList();
                On(live.Session, s => s.EnterLive(live.From, rest, live.Cursor, live.Head, LinkCodec.Read(live.Totals)));
                break;
            case Frames.Op.WhatOneofCase.Missed:
                var missed = op.Missed.Positions.Zip(op.Missed.Messages, (p, m) => (p, messages[m])).ToList();
                On(op.Missed.Session, s => s.TellMissed(op.Missed.Head, missed));
                break;
            case Frames.Op.WhatOneofCase.Plan:
                On(op.Plan.Session, s => s.PlanChanged(op.Plan.Version, LinkCodec.Read(op.Plan.Sight)));
                break;
            case Frames.Op.WhatOneofCase.StayBehind:
                On(op.StayBehind, static s => s.StayBehind());
                break;
            case Frames.Op.WhatOneofCase.TotalsMissed:
                On(op.TotalsMissed, static s => s.TotalsMissed());
                break;
            case Frames.Op.WhatOneofCase.Ended:
                On(op.Ended.Session, s => End(s, messages[op.Ended.Message], op.Ended.Moves));
                break;
            default:
                throw new InvalidDataException($"The other node says something that this version does not know: {op.WhatCase}.");
        }
    }

    static bool Join(Session session, Frames.Joined joined)
    {
        if (session.HasJoined) return false; // a commit failed, and its space was read again
        var marks = joined.Marks.Append(0).Select(static _ => new DispatchMark()).ToArray();
        for (int i = 0; i < joined.Marks.Count; i++) marks[i].Advance(joined.Marks[i]);
        session.Join(joined.Plan, new DispatchMark(), marks);
        return false;
    }

    bool Pass(Session session, Frames.Passing passing, ControlMessage[] messages)
    {
        var message = messages[passing.Message];
        return session.OfferPassing(passing.Key, message,
            message.Shows is { } shown ? () => leftOut(passing.Session, shown.Address) : null);
    }

    static PageItem ItemOf(OutgoingEntry[] entries, Frames.Item item) =>
        new(entries[item.Wire.Entry], item.Wire.Address, item.Log, item.Ordinal) { OnlySubscribed = !item.Wire.Counted };

    static bool End(Session session, ControlMessage lastWords, bool moves)
    {
        if (moves) session.MoveAway(lastWords);
        else session.End(lastWords);
        return false;
    }

    /// <summary>Does something with a session that is there still. One for which it fails ends, or it would have a hole.</summary>
    void On(uint number, Func<Session, bool> what)
    {
        if (!sessions.TryGetValue(number, out var session)) return;
        try
        {
            if (what(session)) toFlush.Add(session);
        }
        catch (Exception error)
        {
            bug(nameof(HeldSessions), error);
            session.End(Messages.Ending("internal-error", 1000));
        }
    }

    void Flush()
    {
        foreach (var session in toFlush) session.Flush();
        toFlush.Clear();
    }
}
