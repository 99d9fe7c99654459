using System.Threading.Channels;
using Rovett.Core;
using Rovett.Core.Ledger;

namespace Rovett.Service.Operations;

/// <summary>Gives the ledger its one thread. Whatever has been asked for while a commit was under way goes into the
/// next one together.</summary>
public sealed class LedgerPump : IDisposable
{
    const int MaxBatch = 512;
    const int MaxWaiting = 100_000;

    readonly Channel<LedgerCommand> queue = Channel.CreateBounded<LedgerCommand>(new BoundedChannelOptions(MaxWaiting) { SingleReader = true });
    readonly Ledger ledger;
    readonly ILogger log;
    readonly Thread thread;
    readonly SendGathering gathering = new();

    /// <summary>Starts the thread.</summary>
    public LedgerPump(Ledger ledger, ILogger<LedgerPump> log)
    {
        this.ledger = ledger;
        this.log = log;
        thread = new Thread(Run) { Name = "ledger", IsBackground = true };
        thread.Start();
    }

    /// <summary>Asks the ledger; the answer comes when it is on disk.</summary>
    /// <exception cref="ProblemException">Refused by the command, or 503: the queue is full or the store can't be written.</exception>
    public Task<T> Ask<T>(LedgerCommand<T> command)
    {
        bool isSend = command is SendCommand;
        if (isSend) gathering.Asked();
        if (queue.Writer.TryWrite(command)) return command.Task;
        if (isSend) gathering.Taken(1);
        throw Overloaded().Throw();
    }

    /// <summary>A session's writer was woken, and has not begun to write yet.</summary>
    public void WriterWoken() => gathering.WriterWoken();

    /// <summary>It has begun.</summary>
    public void WriterBegun() => gathering.WriterBegun();

    /// <summary>True for what a store throws that can't be read or written now.</summary>
    public static bool IsStoreFailure(Exception error) => error is System.Data.Common.DbException or IOException;

    static Problem Overloaded() => new(503, "overloaded", "The service has more to do than it can", "Too many requests are waiting for the store.", "Try again after the seconds named in Retry-After.") { RetryAfterSeconds = 1 };

    /// <summary>What is answered when a commit failed.</summary>
    public static Problem StoreFailed() => new(503, "store-unavailable", "The store can't be written now", "Nothing of this request was stored.", "Try again; with an Idempotency-Key it is safe. If it lasts, the operator finds the reason in the service's log (disk full, read-only, locked).") { RetryAfterSeconds = 2 };

    void Run()
    {
        var batch = new List<LedgerCommand>(MaxBatch);
        while (queue.Reader.WaitToReadAsync().AsTask().GetAwaiter().GetResult())
        {
            batch.Clear();
            gathering.Wait();
            while (batch.Count < MaxBatch && queue.Reader.TryRead(out var command)) batch.Add(command);
            int sends = batch.Count(static c => c is SendCommand);
            long offered = ledger.Offered;
            gathering.Taken(sends);
            try
            {
                ledger.Process(batch);
                gathering.Committed(sends, ledger.Offered - offered);
            }
            catch (Exception error)
            {
                log.LogCritical(error, "The ledger failed outside a commit; the requests of this batch are not answered");
                foreach (var command in batch) command.Abandon(error);
            }
        }
    }

    /// <summary>Carries out what is waiting, then stops.</summary>
    public void Dispose()
    {
        queue.Writer.TryComplete();
        thread.Join(TimeSpan.FromSeconds(10));
    }
}
