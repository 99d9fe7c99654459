using Google.Protobuf;
using Rovett.Core.Delivery;
using Rovett.Core.Links;
using Rovett.Core.Links.Frames;

namespace Rovett.Simulator;

/// <summary>The way from the node that serves to one that holds some of the sessions: in order, late, as bytes. What takes something away
/// from somebody arrives at once, as its answer would wait until it has.</summary>
sealed class SimLink
{
    const int MostMs = 60;

    readonly World world;
    readonly HeldSessions held;
    readonly LinkPort port;
    readonly Queue<Action> flying = new();
    readonly int life;
    uint last;
    int sent;

    public SimLink(World world, long recentBytes)
    {
        this.world = world;
        life = world.Life;
        held = new HeldSessions(new RecentBySpace(recentBytes), LeftOut,
            (where, error) => world.Bug(new SimulationException($"a bug in {where}: {error}")));
        port = new LinkPort(1, Send);
    }

    readonly Dictionary<uint, RemoteSession> remotes = [];

    /// <summary>The newest entries, as they came.</summary>
    public RecentEntries Recent => held.RecentOf(1);

    /// <summary>A session begins.</summary>
    public ISessionPort Enter(Session session, out uint number)
    {
        number = ++last;
        held.Add(number, session);
        var remote = new RemoteSession(port, number, session.Room);
        remotes[number] = remote;
        session.Taken = taken =>
        {
            foreach (var (run, _, to) in taken) remote.Written(run.Place.Position + to - 1);
        };
        return remote;
    }

    /// <summary>A session is over.</summary>
    public void Leave(uint number)
    {
        held.Remove(number);
        remotes.Remove(number);
    }

    void LeftOut(uint session, string address)
    {
        if (remotes.TryGetValue(session, out var remote)) remote.LeftOut(address);
    }

    void Send(Commit commit)
    {
        if (world.Controls.WithLostFrames && ++sent % 50 == 0) return;
        if (world.Controls.WithSplitLists)
        {
            var late = commit.Ops.Where(o => o.WhatCase is Op.WhatOneofCase.Plan or Op.WhatOneofCase.Live).ToList();
            foreach (var op in late) commit.Ops.Remove(op);
            commit.Ops.Add(late);
        }
        bool takesAway = commit.Ops.Any(o => o.WhatCase == Op.WhatOneofCase.Ended || o.Plan?.Sight is not null);
        var bytes = commit.ToByteArray();
        Deliver(() => held.Apply(Commit.Parser.ParseFrom(bytes)));
        while (takesAway && flying.TryDequeue(out var next)) next();
    }

    /// <summary>Does something once all that was sent before has arrived.</summary>
    public void Deliver(Action what)
    {
        flying.Enqueue(what);
        world.After(world.Short(MostMs), () =>
        {
            if (life == world.Life && flying.TryDequeue(out var next)) next();
        });
    }
}
