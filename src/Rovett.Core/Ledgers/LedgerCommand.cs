using System.Diagnostics;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>A command for the ledger.</summary>
/// <param name="space">The name of the space that it is about; null: it is about all of them.</param>
public abstract class LedgerCommand(string? space)
{
    /// <summary>The name of the space that it is about; empty: it is about all of them.</summary>
    public string Space { get; } = space ?? "";

    /// <summary>When it was submitted (<see cref="Stopwatch.GetTimestamp"/>); for the ledger's host.</summary>
    public long AskedAt { get; set; }

    /// <summary>Where it was asked for in a trace that is recorded; null: in none.</summary>
    public ActivityContext? Trace { get; set; }

    /// <summary>About how many times as long as a single send it holds the ledger.</summary>
    public virtual int Work => 1;

    /// <summary>How long it held the ledger, not counting the commit; null: it was not carried out, or is too frequent to be timed one by
    /// one.</summary>
    public TimeSpan? Held { get; internal set; }

    /// <summary>True for kinds that are carried out all the time and are quick: they are not timed one by one.</summary>
    internal virtual bool IsFrequent => false;

    /// <summary>False when nothing is read from or written to the store.</summary>
    internal virtual bool NeedsStore => true;

    /// <summary>True when it seldom writes: if the commit of its batch fails, it is retried by itself.</summary>
    internal virtual bool MayOnlyRead => false;

    /// <summary>True when it is accepted however long the queue is, because it only frees something.</summary>
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

    /// <summary>True when it may take a right away: its answer waits until that holds on every node.</summary>
    internal virtual bool MayRevoke => false;

    /// <summary>For a command about many users: how many of them it changes before it leaves the ledger to other spaces; 0: all.</summary>
    public virtual int StepSize { get => 0; init { } }

    /// <summary>It was carried out in part: to be carried out again, and before that nothing else of its space.</summary>
    public bool IsUnfinished { get; private protected set; }

    /// <summary>What it wrote is stored.</summary>
    internal virtual void Stored() { }

    /// <summary>Says what it will look up.</summary>
    internal virtual void Needs(AheadList ahead) { }

    /// <summary>Forgets the answer of an earlier attempt.</summary>
    internal abstract void Reset();

    /// <summary>Inside the transaction: reads, decides, writes, and tells sessions what they may say once it is
    /// committed. Throws a <see cref="ProblemException"/> only before it changed anything.</summary>
    internal abstract void Execute(Ledger ledger);

    /// <summary>Its commit failed and memory was read again: applies what must be true all the same, without the store.</summary>
    internal virtual void AfterFailure(Ledger ledger) { }

    /// <summary>On disk: gives the answer.</summary>
    internal abstract void Complete();

    /// <summary>Fails the command: it had no effect.</summary>
    internal abstract void Fail(Exception error);

    /// <summary>Fails the command after a bug; for the ledger's host.</summary>
    public void Abandon(Exception error) => Fail(error);
}

/// <summary>A command with an answer.</summary>
/// <param name="space">The name of the space that it is about; null: it is about all of them.</param>
public abstract class LedgerCommand<T>(string? space) : LedgerCommand(space)
{
    readonly TaskCompletionSource<T> done = new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>The answer; set only once it is on disk.</summary>
    public Task<T> Task => done.Task;

    private protected T Answer { get; set; } = default!;

    internal override void Reset() => Answer = default!;

    internal sealed override void Complete() => done.TrySetResult(Answer);

    internal override void Fail(Exception error) => done.TrySetException(error);
}
