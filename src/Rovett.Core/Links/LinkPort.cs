using Rovett.Core.Delivery;
using Rovett.Core.Wire;

namespace Rovett.Core.Links;

/// <summary>Gathers what commits of one space mean for the sessions of it that one other node holds. What is for many of them is there
/// once, with a few bytes for each. Safe to call from several threads.</summary>
/// <param name="space">The store's number of the space.</param>
/// <param name="send">Sends what was gathered; called under a lock, which keeps the order.</param>
public sealed class LinkPort(int space, Action<Frames.Commit> send)
{
    readonly Lock gate = new();
    readonly Dictionary<object, uint> known = new(ReferenceEqualityComparer.Instance); // entries, runs and messages of the present commit
    Frames.Commit commit = new();
    bool flushDue;

    /// <summary>Something for one session.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    public bool Add(Func<LinkPort, Frames.Op> make)
    {
        lock (gate)
        {
            commit.Ops.Add(make(this));
            return FlushWanted();
        }
    }

    /// <summary>Entries for a session.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    public bool Offer(uint session, EntryRun run, long rev, long unread)
    {
        lock (gate)
        {
            uint index = IndexOf(run);
            if (commit.Ops is not [.., { WhatCase: Frames.Op.WhatOneofCase.Offered } last] || last.Offered.Run != index)
            {
                last = new Frames.Op { Offered = new Frames.Offered { Run = index } };
                commit.Ops.Add(last);
            }
            last.Offered.Sessions.Add(session);
            last.Offered.Revs.Add(rev);
            last.Offered.Unreads.Add(unread);
            return FlushWanted();
        }
    }

    /// <summary>A message for a session.</summary>
    /// <returns>True when a flush is now due that was not due before.</returns>
    public bool Tell(uint session, ControlMessage message)
    {
        lock (gate)
        {
            uint index = IndexOf(message);
            if (commit.Ops is not [.., { WhatCase: Frames.Op.WhatOneofCase.Told } last] || last.Told.Message != index)
            {
                last = new Frames.Op { Told = new Frames.Told { Message = index } };
                commit.Ops.Add(last);
            }
            last.Told.Sessions.Add(session);
            return FlushWanted();
        }
    }

    /// <summary>Sends what was gathered.</summary>
    public void Flush()
    {
        lock (gate)
        {
            flushDue = false;
            if (commit.Ops.Count == 0) return;
            commit.Space = space;
            var done = commit;
            commit = new Frames.Commit();
            known.Clear();
            send(done);
        }
    }

    bool FlushWanted()
    {
        bool first = !flushDue;
        flushDue = true;
        return first;
    }

    /// <summary>The index of a message in the present commit.</summary>
    internal uint IndexOf(ControlMessage message)
    {
        if (known.TryGetValue(message, out uint index)) return index;
        commit.Messages.Add(LinkCodec.Of(message));
        return known[message] = (uint)commit.Messages.Count - 1;
    }

    uint IndexOf(OutgoingEntry entry)
    {
        if (known.TryGetValue(entry, out uint index)) return index;
        commit.Entries.Add(LinkCodec.Of(entry));
        return known[entry] = (uint)commit.Entries.Count - 1;
    }

    uint IndexOf(EntryRun run)
    {
        if (known.TryGetValue(run, out uint index)) return index;
        var wire = new Frames.Run { Log = run.Place.Log, Ordinal = run.Place.Ordinal };
        foreach (var one in run.Wires) wire.Wires.Add(Of(one));
        commit.Runs.Add(wire);
        return known[run] = (uint)commit.Runs.Count - 1;
    }

    Frames.Wire Of(EntryWire wire) => new()
    { Entry = IndexOf(wire.Entry), Address = wire.Address, Attempt = wire.Attempt, Read = wire.Read, Counted = wire.IsCounted };

    /// <summary>An entry that was found for a session.</summary>
    internal Frames.Item Of(PageItem item, long rev, long unread) => new()
    {
        Wire = new Frames.Wire { Entry = IndexOf(item.Entry), Address = item.Address, Attempt = 1, Counted = !item.OnlySubscribed },
        Log = item.Log,
        Ordinal = item.Ordinal,
        Rev = rev,
        Unread = unread,
    };
}
