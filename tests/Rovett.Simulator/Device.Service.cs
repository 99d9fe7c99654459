using Rovett.Core.Delivery;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Wire;

namespace Rovett.Simulator;

/// <summary>The service's side of a device's line: feeds the real session, and lets its bytes fly.</summary>
sealed partial class Device
{
    void Pump(Line at)
    {
        if (at.Pumping || !at.Open || at.Cut || at.Life != world.Life) return;
        at.Pumping = true;
        int born = world.Life;
        var session = at.Session;
        world.After(world.Short(slow ? 400 : 3), () =>
        {
            if (born != world.Life || at.Session != session) return; // its successor is pumped by itself
            at.Pumping = false;
            if (at.Detached) return;
            if (slow && at.Flying.Count > 2) return; // a full socket takes nothing
            if (transport == TransportKind.LongPoll && !at.Asking) return;
            var buffer = new byte[world.Random.Next(600, 4000)];
            int count = at.Session.Drain(buffer, out var large);
            if (count > 0 || large is not null) Write(at, large ?? buffer[..count]);
            else if (at.Session.IsEnded) Lose(cut: false);
            else Supply(at);
        });
    }

    /// <summary>Lets bytes fly that were taken; now and then a little later, and then not if the session is replaced meanwhile.</summary>
    void Write(Line at, byte[] bytes)
    {
        CheckLeaving(at, bytes);
        var session = at.Session;
        if (!at.Stays || world.Random.Next(3) > 0)
        {
            Begin();
            return;
        }
        at.Pumping = true;
        int born = world.Life;
        if (world.Controls.TakenCountsAsWritten) session.Begins();
        world.After(world.Short(300), () =>
        {
            if (born != world.Life || at.Cut || at.Detached) return;
            if (at.Session == session) at.Pumping = false;
            Begin();
        });

        void Begin()
        {
            if (session.Begins())
            {
                Fly(at, bytes);
                session.Written(world.Clock.Elapsed);
            }
            Pump(at);
        }
    }

    void Supply(Line at)
    {
        if (at.Supplying) return;
        var (need, version) = at.Session.Next();
        if (need == SessionNeed.None) return;
        at.Supplying = true;
        switch (need)
        {
            case SessionNeed.Page when at.Plan is null || at.Plan.Version != version:
                world.Post(new PlanCommand("main", user, at.Port), t => Supplied(at, () => at.Plan = t.IsFaulted ? null : t.Result),
                    link: at.Link);
                break;
            case SessionNeed.Page:
                int born = world.Life;
                world.After(world.Short(3), () =>
                {
                    if (born == world.Life) Supplied(at, () => at.Feeder.Page(at.Session, at.Plan!));
                });
                break;
            case SessionNeed.GoLive:
                at.Plan = null;
                world.Post(new GoLiveCommand("main", user, at.Port, version, at.Session.Through), t => Supplied(at, () =>
                {
                    if (t.IsFaulted) at.Session.StayBehind();
                }), link: at.Link);
                break;
            default:
                world.Post(new AgainCommand("main", at.User, at.Port, at.Session.TakeAgain()), t => Supplied(at, () =>
                {
                    if (!t.IsFaulted) at.Session.Repeat(t.Result.Found, t.Result.PlanVersion, t.Result.Totals);
                }), link: at.Link);
                break;
        }
    }

    void Supplied(Line at, Action then)
    {
        at.Supplying = false;
        if (at.Detached) return;
        then();
        Pump(at);
    }

    void Fly(Line at, byte[] bytes)
    {
        at.Flying.Enqueue(bytes);
        at.Asking = false;
        world.After(world.Short(slow ? 900 : 20), () =>
        {
            if (at.Cut || !at.Flying.TryDequeue(out var arrived)) return;
            if (transport == TransportKind.LongPoll) world.After(world.Short(slow ? 400 : 30), () =>
            {
                at.Asking = true; // the next request
                Pump(at);
            });
            at.Arrived.AddRange(arrived);
            Read(at);
            Pump(at);
        });
    }

    /// <summary>What leaves for a user must be that user's to see when it leaves; and once the session's credential
    /// does not hold, only the word that it ends.</summary>
    void CheckLeaving(Line at, byte[] bytes)
    {
        bool holds = world.Reference.IsInForce(user, at.Issued) && at.Key == world.KeyNumber;
        foreach (var message in Split([.. bytes], out _))
        {
            if (!holds && message.GetProperty("kind").GetString() != "ending")
            {
                throw world.Wrong($"{name} is sent {message.GetRawText()} after its credential ended: {at.Issued} by key {at.Key} of " +
                    $"{world.KeyNumber}; valid from {world.Reference.Of(user).ValidFrom}");
            }
            if (message.GetProperty("kind").GetString() == "presence") CheckPresenceLeaving(message);
            if (message.GetProperty("kind").GetString() == "said") CheckSaidLeaving(at, message);
            if (Id(message) is not { } id || world.Sent(id) is not { } sent) continue;
            if (world.Reference.Reaches(user, sent) is null
                && !(subscribed.TryGetValue(at, out var topics) && world.IsSubscribed(user, topics, sent)))
            {
                throw world.Wrong($"{name} is sent {message.GetProperty("kind").GetString()} of {sent.Number} (" +
                    $"{string.Join(' ', sent.To)} except {string.Join(' ', sent.Except)}), which is not {user}'s to see");
            }
        }
    }
}
