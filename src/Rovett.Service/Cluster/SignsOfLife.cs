using Npgsql;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Storage;
using Rovett.Storage.Postgres;

namespace Rovett.Service.Cluster;

/// <summary>Gives a sign of life each second, on a thread of its own, and hears by its answer which spaces are this node's still: what
/// another has taken is let go before the lease holds again.</summary>
sealed class SignsOfLife : IDisposable
{
    static readonly TimeSpan Every = TimeSpan.FromSeconds(1), LaneHangs = TimeSpan.FromSeconds(5),
        TryAgain = TimeSpan.FromMilliseconds(100);

    readonly PostgresNode table;
    readonly Lease lease;
    readonly LedgerPump ledger;
    readonly Faults faults;
    readonly Func<IReadOnlyList<(int Id, string Name, long Term, TimeSpan Since)>> mine;
    readonly Action<int, string> lost;
    readonly Action news, replaced;
    readonly CancellationTokenSource stop = new();
    readonly Thread thread;

    /// <param name="table">The nodes.</param>
    /// <param name="lease">What is renewed.</param>
    /// <param name="ledger">While one of its lanes hangs, no sign is given, so that another node takes the spaces.</param>
    /// <param name="faults">Hears of bugs.</param>
    /// <param name="mine">The spaces that are served here, with their terms, and since when.</param>
    /// <param name="lost">Called for a space that another has taken.</param>
    /// <param name="news">Called when a node has something to tell.</param>
    /// <param name="replaced">Called when another process has this node's address.</param>
    public SignsOfLife(PostgresNode table, Lease lease, LedgerPump ledger, Faults faults,
        Func<IReadOnlyList<(int Id, string Name, long Term, TimeSpan Since)>> mine, Action<int, string> lost, Action news, Action replaced)
    {
        (this.table, this.lease, this.ledger, this.faults) = (table, lease, ledger, faults);
        (this.mine, this.lost, this.news, this.replaced) = (mine, lost, news, replaced);
        thread = new Thread(Run) { Name = "node", IsBackground = true };
        thread.Start();
    }

    void Run()
    {
        while (!stop.IsCancellationRequested)
        {
            try
            {
                if (ledger.LongestUnderWay > LaneHangs)
                {
                    stop.Token.WaitHandle.WaitOne(Every);
                    continue;
                }
                if (!Give())
                {
                    replaced();
                    break;
                }
                if (table.WaitForNews(Every)) news();
            }
            catch (Exception error) when (error is NpgsqlException or StoreException or InvalidOperationException)
            {
                stop.Token.WaitHandle.WaitOne(TryAgain);
            }
            catch (Exception error)
            {
                faults.Bug(null, nameof(SignsOfLife), error);
                stop.Token.WaitHandle.WaitOne(Every);
            }
        }
        table.EndBeats();
    }

    /// <returns>False: another process has this node's address.</returns>
    bool Give()
    {
        var begun = lease.Now;
        var known = mine();
        var beat = table.Beat();
        if (!beat.IsKnown) return false;
        foreach (var (id, name, term, since) in known)
        {
            // What was taken meanwhile may not be in the answer yet.
            if (since < begun && (!beat.Owned.TryGetValue(id, out long now) || now < term)) lost(id, name);
        }
        lease.Renewed(begun);
        return true;
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        stop.Cancel();
        thread.Join(TimeSpan.FromSeconds(5));
        stop.Dispose();
    }
}
