using System.Net;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Wire;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;

namespace Rovett.Service.Live;

/// <summary>Going on when another node serves its space: the connection stays, and the session is let in anew where its device
/// stands.</summary>
public sealed partial class LiveSession
{
    static readonly TimeSpan OpensAgainWithin = TimeSpan.FromSeconds(15), TriesAgainAfter = TimeSpan.FromMilliseconds(50),
        LooksForMove = TimeSpan.FromMilliseconds(20);
    const int MostLooks = 150;

    ISessionSide? left; // who said last that it does not serve the space any more

    /// <summary>Its device takes another <c>opened</c> on the same connection.</summary>
    public bool Reopens { get; init; }

    /// <summary>Where its device connects from, for the limits; known if it is opened again.</summary>
    internal IPAddress? Address { get; init; }

    /// <summary>It goes on if its space moves.</summary>
    internal bool Stays => Reopens && services.Sides is not null;

    /// <inheritdoc/>
    public void MoveAway()
    {
        if (side is HereSide here) MoveAway(here, Messages.Ending("moved", services.Options.ComeBackWithinMs));
        else if (!Reopens) End("moved", services.Options.ComeBackWithinMs);
    }

    /// <summary>Who served its space does so no longer.</summary>
    /// <param name="from">Who did; if that is not known any more, nothing is done.</param>
    /// <param name="lastWords">What its device is told if it can't go on.</param>
    internal void MoveAway(ISessionSide from, ControlMessage lastWords)
    {
        if (!Stays || !isOpen)
        {
            Machine?.End(lastWords);
            return;
        }
        var next = new NextSide();
        lock (gate)
        {
            left = from;
            if (from != side || Machine.Successor(Wake) is not { } machine) return;
            side = next;
            Machine = machine;
            place.Dispose();
            place = UsageLimits.NoPlace;
        }
        foreach (var (handled, runs) in from.Leave()) next.Acknowledged(handled, runs);
        _ = from.Detach();
        Wake();
    }

    /// <summary>What a device acknowledged may not be stored where its space was served: it is told to who serves it now.</summary>
    internal void AcknowledgedAgain(bool handled, List<AckedRun> runs) => side.Acknowledged(handled, runs);

    /// <summary>Whether somebody answered that does not serve the space any more, or nobody did.</summary>
    static bool IsMove(ProblemException error) => error.Problem.Slug is "space-moved" or "outcome-unknown" or "unknown-session";

    /// <summary>Asks who serves its space; again where that has just changed.</summary>
    async Task<T> Ask<T>(Func<ISessionSide, Task<T>> ask, bool mayRepeat = true)
    {
        for (; ; )
        {
            var at = side;
            try
            {
                return await ask(at);
            }
            catch (ProblemException moved) when (mayRepeat && Reopens && IsMove(moved))
            {
                if (!await HasMoved(() => side != at)) throw;
            }
        }
    }

    /// <summary>Who asked may have been answered before it is told that the space is served elsewhere.</summary>
    async Task<bool> HasMoved(Func<bool> has)
    {
        for (int i = 0; i < MostLooks && !has() && !Machine.IsEnded; i++) await Task.Delay(LooksForMove);
        return has();
    }

    /// <summary>Lets it in where its space is served now.</summary>
    async Task Reopen(Session machine)
    {
        var began = Now;
        var lastWords = Messages.Ending("moved", services.Options.ComeBackWithinMs);
        while (machine.WaitsToOpen)
        {
            try
            {
                if (Now - began > OpensAgainWithin || !await OpenAgain(machine))
                {
                    machine.End(lastWords);
                    return;
                }
                if (!machine.WaitsToOpen) return;
            }
            catch (Exception error)
            {
                if (!(error is ProblemException { Problem: { Status: 429 or 503 } or { Slug: "unknown-session" } }
                    || LedgerPump.IsStoreFailure(error)))
                {
                    // It comes back by itself, and is told why it is not let in.
                    if (error is not ProblemException) services.Faults.Thrown(Space.Name, nameof(Reopen), error);
                    machine.End(lastWords);
                    return;
                }
            }
            lock (gate)
            {
                // Whoever may have let it in all the same has the one that is given up here.
                if (machine == Machine && machine.Successor(Wake) is { } fresh) Machine = fresh;
                machine = Machine;
            }
            await Task.Delay(TriesAgainAfter);
        }
    }

    /// <returns>False: there is nobody whom it can go on with.</returns>
    async Task<bool> OpenAgain(Session machine)
    {
        Opening opened;
        ISessionSide next;
        long after = machine.StandsAt;
        if (!await services.Sides!.IsServed(Space)) return false;
        await services.ReopenTurns.WaitAsync();
        try
        {
            next = await services.Sides.Of(Space, Address) ?? throw Ledger.Moved(Space.Name).ToException();
            place = next is HereSide ? services.Limits.EnterSession(Space, User, Address) : UsageLimits.NoPlace;
            try
            {
                opened = await next.Attach(this, new DevicePoint(after, Foreign: false));
            }
            catch
            {
                place.Dispose();
                place = UsageLimits.NoPlace;
                throw;
            }
        }
        finally
        {
            services.ReopenTurns.Release();
        }
        bool hasLeft;
        NextSide? between;
        lock (gate)
        {
            between = side as NextSide;
            side = next;
            hasLeft = left == next;
        }
        if (hasLeft || next.IsOver)
        {
            // It was told so before it was known that it begins.
            MoveAway(next, Messages.Ending("moved", services.Options.ComeBackWithinMs));
            (side as NextSide)?.Takes(between!);
            return true;
        }
        between!.Begins(next);
        knownSilent = false;
        plan = opened.Plan;
        channels = opened.Channels;
        feeder = new SessionFeeder(services.History, next.RecentOf(Space), Space.Cursors);
        OpenMachine(machine, opened, after, foreignCursor: false);
        return true;
    }
}
