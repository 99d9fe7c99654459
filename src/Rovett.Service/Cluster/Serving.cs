using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Intakes;
using Rovett.Service.Ledgers;
using Rovett.Service.Live;
using Rovett.Service.Outbound;
using Rovett.Service.Receipts;
using Rovett.Service.Spaces;

namespace Rovett.Service.Cluster;

/// <summary>What happens in this process when it begins to serve a space, and when another does from now on.</summary>
sealed class Serving(SpaceDirectory spaces, LedgerPump ledger, Agendas agendas, AckBuffer acks, AccessNews news, WebhookSender webhooks,
    OutboundNews outbound, IntakeList intakes, SessionRegistry sessions, ServiceClock clock, Faults faults)
{
    static readonly TimeSpan Patience = TimeSpan.FromSeconds(2);

    /// <summary>Returns once all that other processes changed until now counts here.</summary>
    public Task CatchUp() => news.CatchUp();

    /// <summary>Begins to serve a space that the database says is this process's.</summary>
    /// <returns>False when it could not; to be tried again.</returns>
    public async Task<bool> Begin(string name)
    {
        try
        {
            if (spaces.Find(name) is not { } space) return false;
            await ledger.Ask(new LetGoCommand(name, isGivenUp: false)); // what was remembered of an earlier time
            agendas.Of(name).Begins(clock.Due);
            space.Use().Dispose(); // it may be in use at other nodes: its first request is waited for before it moves on
            space.IsDeposed = false;
            space.IsHere = true;
            outbound.Tell(name);
            isStale = true;
            Settle();
            return true;
        }
        catch (Exception error)
        {
            if (error is not ProblemException && !LedgerPump.IsStoreFailure(error)) faults.Bug(name, nameof(Serving), error);
            return false;
        }
    }

    /// <summary>Another node has taken a space: nothing is answered or written for it from now on.</summary>
    public void Stop(string name)
    {
        if (spaces.Find(name) is not { } space) return;
        space.IsDeposed = true;
        space.IsHere = false;
        // Sessions at other nodes are told before those nodes hear that this process may act again.
        foreach (var session in sessions.In(name).OfType<ServedSession>()) session.MoveAway();
    }

    /// <summary>Ends serving a space: what waits to be stored is stored still, if it may be. Sessions end whether or not the database
    /// answers.</summary>
    public async Task End(string name)
    {
        if (spaces.Find(name) is not { } space) return;
        space.IsHere = false;
        intakes.LetGo(name);
        acks.FlushNow();
        try
        {
            await ledger.Ask(new LetGoCommand(name)).WaitAsync(Patience);
        }
        catch (Exception error)
        {
            if (error is not (ProblemException or TimeoutException) && !LedgerPump.IsStoreFailure(error))
                faults.Bug(name, nameof(Serving), error);
        }
        // Those that the ledger did not know yet, or could not tell.
        foreach (var session in sessions.In(name)) session.MoveAway();
        isStale = true;
        Settle();
    }

    volatile bool isStale;

    /// <summary>Has webhooks run where their spaces are served. What the database keeps from being done is done by a later call.</summary>
    public void Settle()
    {
        if (!isStale) return;
        isStale = false;
        try
        {
            webhooks.Refresh();
        }
        catch (Exception error)
        {
            isStale = true;
            if (!LedgerPump.IsStoreFailure(error)) faults.Bug(null, nameof(Serving), error);
        }
    }

    /// <summary>Whether nobody would notice if another node served a space.</summary>
    public bool IsIdle(string name) => !agendas.Of(name).IsConnected && spaces.Find(name) is { } space
        && space.Unused > TimeSpan.FromSeconds(2);
}
