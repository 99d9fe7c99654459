using System.Diagnostics;

namespace Rovett.Core.Ledgers;

/// <summary>Something for the ledger to carry out.</summary>
public abstract class LedgerCommand
{
    /// <summary>When it was asked, by <see cref="Stopwatch.GetTimestamp"/>: for the ledger's host.</summary>
    public long AskedAt { get; set; }

    /// <summary>False when nothing is read from or written to the store.</summary>
    internal virtual bool NeedsStore => true;

    /// <summary>True when it seldom writes: should the commit of its batch fail, it is carried out once more by itself.</summary>
    internal virtual bool MayOnlyRead => false;

    /// <summary>True when it is taken however much waits: it only takes something away.</summary>
    public virtual bool IsAlwaysTaken => false;

    /// <summary>True when it seldom writes what a power cut must not lose: its commit need not wait for the disk unless
    /// it <see cref="MustLast"/>.</summary>
    internal virtual bool MaySyncLater => false;

    /// <summary>Once written: it wrote what a power cut must not lose.</summary>
    internal virtual bool MustLast => true;

    /// <summary>True for a send, which is gathered with the sends beside it before any is offered to anybody.</summary>
    internal virtual bool OnlySends => false;

    /// <summary>True when its success shows that the store takes writes again.</summary>
    internal virtual bool ShowsStoreWorks => false;

    /// <summary>Forgets the answer of an earlier attempt.</summary>
    internal abstract void Reset();

    /// <summary>Inside the transaction: reads, decides, writes, and tells sessions what they may say once it is
    /// committed. Throws a <see cref="ProblemException"/> only before it changed anything.</summary>
    internal abstract void Execute(Ledger ledger);

    /// <summary>Its commit failed, and memory was read again: what must be so all the same is made so, without the store.</summary>
    internal virtual void AfterFailure(Ledger ledger) { }

    /// <summary>It is on disk: gives the answer.</summary>
    internal abstract void Complete();

    /// <summary>It did not happen.</summary>
    internal abstract void Fail(Exception error);

    /// <summary>For the ledger's host, when it failed where it never should.</summary>
    public void Abandon(Exception error) => Fail(error);
}

/// <summary>A command with an answer.</summary>
public abstract class LedgerCommand<T> : LedgerCommand
{
    readonly TaskCompletionSource<T> done = new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>The answer; set only once it is on disk.</summary>
    public Task<T> Task => done.Task;

    private protected T Answer { get; set; } = default!;

    internal sealed override void Reset() => Answer = default!;

    internal sealed override void Complete() => done.TrySetResult(Answer);

    internal sealed override void Fail(Exception error) => done.TrySetException(error);
}
