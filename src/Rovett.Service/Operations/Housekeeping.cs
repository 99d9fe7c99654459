using Rovett.Core.Ledger;
using Rovett.Core.Presence;
using Rovett.Service.Access;

namespace Rovett.Service.Operations;

/// <summary>Has the ledger carry out what is due (expiries, ends of takings, deadlines), tell who came and left, and let go what retention takes,
/// a few at a time, so that nobody waits for it.</summary>
public sealed class Housekeeping : IDisposable
{
    static readonly TimeSpan Interval = TimeSpan.FromMilliseconds(250);
    const int Step = 256;

    readonly LedgerPump ledger;
    readonly SpaceDirectory spaces;
    readonly bool retention;
    readonly ITimer timer;
    int running;

    /// <summary>Starts the timer.</summary>
    public Housekeeping(LedgerPump ledger, SpaceDirectory spaces, bool retention, TimeProvider clock)
    {
        this.ledger = ledger;
        this.spaces = spaces;
        this.retention = retention;
        timer = clock.CreateTimer(_ => _ = Run(), null, Interval, Interval);
    }

    async Task Run()
    {
        if (Interlocked.Exchange(ref running, 1) == 1) return; // the last round is not over
        try
        {
            foreach (var space in spaces.All.Select(s => s.Name))
            {
                while (await ledger.Ask(new DueCommand(space, Step)) == Step)
                {
                }
                await ledger.Ask(new PresenceRoundCommand(space));
                while (retention && await ledger.Ask(new TrimCommand(space, Step)) == Step)
                {
                }
            }
            while (await ledger.Ask(new PurgeCommand(Step)))
            {
            }
        }
        catch (Exception)
        {
            // The store can't be written, or there is too much to do: the next round tries again.
        }
        finally
        {
            Volatile.Write(ref running, 0);
        }
    }

    /// <inheritdoc/>
    public void Dispose() => timer.Dispose();
}
