using System.Net;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Wire;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;

namespace Rovett.Service.Live;

/// <summary>What happens when another node takes over the space: the connection stays open, and the session is attached again from the
/// device's position.</summary>
public sealed partial class LiveSession
{
    static readonly TimeSpan OpensAgainWithin = TimeSpan.FromSeconds(15), TriesAgainAfter = TimeSpan.FromMilliseconds(50),
        LooksForMove = TimeSpan.FromMilliseconds(20);
    const int MostLooks = 150;

    ISessionSide? left; // the last side that stopped serving the space

    /// <summary>Its device accepts a second <c>opened</c> on the same connection.</summary>
    public bool Reopens { get; init; }

    /// <summary>The network address of its device, which counts towards the limits again wherever it is attached next.</summary>
    internal IPAddress? Address { get; init; }

    /// <summary>Its connection stays open when another node takes over the space.</summary>
    internal bool Stays => Reopens && services.Sides is not null;

    /// <inheritdoc/>
    public void MoveAway()
    {
        if (side is HereSide here) MoveAway(here, Messages.Ending("moved", services.Options.ComeBackWithinMs));
        else if (!Stays) End("moved", services.Options.ComeBackWithinMs);
    }

    /// <summary>A side stopped serving the space.</summary>
    /// <param name="from">The side; ignored if the session has left it already.</param>
    /// <param name="lastWords">The last message to a device whose connection does not stay.</param>
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

    /// <summary>Passes on acknowledgements that the previous node may not have stored.</summary>
    internal void AcknowledgedAgain(bool handled, List<AckedRun> runs) => side.Acknowledged(handled, runs);

    /// <summary>Whether a refusal may only mean that another node has taken over the space.</summary>
    static bool IsMove(ProblemException error) => error.Problem.Slug is "space-moved" or "outcome-unknown" or "unknown-session";

    /// <summary>Asks the node that serves the space, and asks the next one again if that changes meanwhile.</summary>
    async Task<T> Ask<T>(Func<ISessionSide, Task<T>> ask, bool mayRepeat = true)
    {
        for (; ; )
        {
            var at = side;
            try
            {
                return await ask(at);
            }
            catch (ProblemException moved) when (mayRepeat && Stays && IsMove(moved))
            {
                if (!await HasMoved(() => side != at)) throw;
            }
        }
    }

    /// <summary>Waits up to 3 s for the news of a take-over, which may come after the refusals that it causes.</summary>
    async Task<bool> HasMoved(Func<bool> has)
    {
        for (int i = 0; i < MostLooks && !has() && !Machine.IsEnded; i++) await Task.Delay(LooksForMove);
        return has();
    }

    /// <summary>Attaches the session again, and retries until it is attached, has ended, or has waited too long.</summary>
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
                    // The device reconnects, and is told the reason then.
                    if (error is not ProblemException) services.Faults.Thrown(Space.Name, nameof(Reopen), error);
                    machine.End(lastWords);
                    return;
                }
            }
            lock (gate)
            {
                // If the attempt did succeed somewhere, what that node sends goes to a machine that nobody uses.
                if (machine == Machine && machine.Successor(Wake) is { } fresh) Machine = fresh;
                machine = Machine;
            }
            await Task.Delay(TriesAgainAfter);
        }
    }

    /// <returns>False: no node can attach it.</returns>
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
            // The space moved on before this attachment was complete.
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
