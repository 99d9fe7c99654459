using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Wire;

namespace Rovett.Simulator;

/// <summary>A line that survives a take-over: what is in flight still arrives, and the session is attached again from the device's
/// position.</summary>
sealed partial class Device
{
    /// <summary>Keeps the line open when the session's node says that another has taken over the space.</summary>
    void GoesOn(Line at)
    {
        var session = at.Session;
        session.Moves = words =>
        {
            if (at.Session != session) return;
            if (at.Stays && Leave(at)) Reopen(world.Short(400));
            else session.End(words);
        };
    }

    /// <summary>Another node takes the space.</summary>
    /// <returns>False: the line does not stay.</returns>
    public bool StaysOn()
    {
        if (line is not { Stays: true, Cut: false } at) return false;
        if (!at.Moving) return Leave(at);
        // If it was attached meanwhile, that node has a session that nobody uses.
        if (at.Session.Successor(() => Pump(at)) is not { } fresh) return false;
        at.Link?.Leave(at.NumberThere);
        at.Session = fresh;
        at.Pumping = false;
        return true;
    }

    bool Leave(Line at)
    {
        if (!at.Open || at.Detached || at.EndedByKey || at.Session.Successor(() => Pump(at)) is not { } next) return false;
        at.Link?.Leave(at.NumberThere);
        at.Session = next;
        at.Moving = true;
        at.Current = at.Supplying = at.Pumping = false;
        known.Remove(at);
        attends.Remove(at);
        subscribed.Remove(at);
        watched.Remove(at);
        world.Note($"{name} stays at {next.StandsAt}");
        return true;
    }

    /// <summary>Attaches the session again if it is between two nodes.</summary>
    public void Reopen(TimeSpan delay) => world.After(delay, () =>
    {
        if (line is { Moving: true, Cut: false } at && !opening) Reopen(at);
    });

    void Reopen(Line at)
    {
        opening = true;
        int born = world.Life, era = world.Era;
        at.Life = world.Life;
        long after = world.Controls.WithSkippedEntry ? at.Session.StandsAt + 1 : at.Session.StandsAt;
        var link = at.Link = world.Random.Next(2) == 0 ? world.Link : null;
        at.Feeder = new SessionFeeder(new HistoryReader(world.History), link?.Recent ?? world.Recent, world.Seal);
        var session = at.Session;
        at.Port = link?.Enter(session, out at.NumberThere) ?? session;
        var attach = new AttachCommand("main", new Identity(new UserId(user), null, at.Issued), name, at.Port, new DevicePoint(after, false));
        world.Post(attach, task =>
        {
            if (born == world.Life) opening = false;
            if (task.IsFaulted || born != world.Life)
            {
                link?.Leave(at.NumberThere);
                if (line == at && born == world.Life) Lose(cut: true); // as the service does: the device must reconnect
                if (born == world.Life) ComeBack(world.Short(300));
                return;
            }
            var opened = task.Result;
            at.User = opened.User;
            if (at.Cut)
            {
                // Its connection went meanwhile.
                link?.Leave(at.NumberThere);
                world.Post(new DetachCommand("main", at.User, at.Port), _ => { }, _ => { });
                ComeBack(world.Short(300));
                return;
            }
            at.Plan = opened.Plan;
            known.Add(at);
            IReadOnlyList<ControlMessage> words = [];
            var start = opened.LiveFrom ?? at.Feeder.Begin(opened.Plan!, after, false, session.PageSize, out words);
            at.OpenedAt = opened.Head.Value;
            var first = new List<ControlMessage>
                { Messages.Opened("s", user, "main", opened.Channels, opened.Totals, world.Seal.Seal(start), Limits.Window, 2, "x", name,
                default) };
            first.AddRange(words);
            at.Moving = false;
            world.Counts.Stayed++;
            GoesOn(at);
            session.Open(first, start);
            if (at.Key != world.KeyNumber) EndByKey(at);
        }, now =>
        {
            if (!world.Reference.Holds(user, at.Issued)) throw world.Wrong($"{name} was let in again with a credential that does not hold");
            if (era != world.Era) world.Reference.Of(user).Ended.Remove(at.Issued);
            world.Reference.Token(now, user, null, at.Issued);
        }, refused: () => world.Refused(user, at.Issued), link: link);
    }
}
