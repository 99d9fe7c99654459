using System.Collections.Concurrent;
using System.Diagnostics;
using Rovett.Core.Ledgers;

namespace Rovett.Service.Diagnostics;

/// <summary>A fault of the service itself.</summary>
/// <param name="Space">The space it happened in; null: not known, or the whole service.</param>
/// <param name="Where">The command or step.</param>
/// <param name="What">The type of what was thrown. Its message is only in the log: it may name people.</param>
/// <param name="Count">How often since the start.</param>
/// <param name="Last">When last.</param>
public sealed record Fault(string? Space, string Where, string What, long Count, StoredTime Last);

/// <summary>Counts, logs and remembers bugs and store failures. Safe to call from any thread; never throws.</summary>
/// <remarks>A bug is logged with its stack the first time, and at most once a minute after that.</remarks>
public sealed class Faults(TimeProvider clock, ILogger<Faults> log) : ILedgerFaults
{
    const int MostRemembered = 200;
    static readonly TimeSpan LogAgainAfter = TimeSpan.FromMinutes(1), LogStoreAgainAfter = TimeSpan.FromSeconds(10);

    sealed class Seen
    {
        public long Count, LastMicros, LoggedAt;
    }

    readonly ConcurrentDictionary<(string? Space, string Where, string What), Seen> seen = new();
    long bugs, storeFailures, storeLoggedAt;

    /// <summary>Bugs since the start.</summary>
    public long Bugs => Interlocked.Read(ref bugs);

    /// <summary>Store failures since the start.</summary>
    public long StoreFailures => Interlocked.Read(ref storeFailures);

    /// <inheritdoc/>
    public void Bug(string? space, string where, Exception error) => Bug(space, where, error, null);

    /// <summary>A bug, in a request.</summary>
    /// <param name="space">The space; null: not known.</param>
    /// <param name="where">The command or step.</param>
    /// <param name="error">What was thrown.</param>
    /// <param name="request">The request's id; null: it was in none.</param>
    public void Bug(string? space, string where, Exception error, string? request)
    {
        Interlocked.Increment(ref bugs);
        if (seen.Count > MostRemembered) seen.Clear();
        var one = seen.GetOrAdd((space, where, error.GetType().Name), static _ => new Seen());
        long count = Interlocked.Increment(ref one.Count), now = Stopwatch.GetTimestamp(), logged = Volatile.Read(ref one.LoggedAt);
        Volatile.Write(ref one.LastMicros, StoredTime.From(clock.GetUtcNow()).Micros);
        if (logged != 0 && Stopwatch.GetElapsedTime(logged, now) < LogAgainAfter) return;
        if (Interlocked.CompareExchange(ref one.LoggedAt, now, logged) != logged) return;
        log.LogError(error,
            "Bug in {Where}, space {Space}, request {Request}, seen {Count} times. It was confined to this one item; please report it " +
                "with this stack",
            where, space ?? "(any)", request ?? "(none)", count);
    }

    /// <summary>Something was thrown in the background: a store failure or a bug.</summary>
    public void Thrown(string? space, string where, Exception error)
    {
        if (Storage.Sql.StoreFailures.Is(error)) StoreFailed(error);
        else Bug(space, where, error);
    }

    /// <inheritdoc/>
    public void StoreFailed(Exception error)
    {
        Interlocked.Increment(ref storeFailures);
        long now = Stopwatch.GetTimestamp(), logged = Volatile.Read(ref storeLoggedAt);
        if (logged != 0 && Stopwatch.GetElapsedTime(logged, now) < LogStoreAgainAfter) return;
        if (Interlocked.CompareExchange(ref storeLoggedAt, now, logged) == logged)
            log.LogError(error, "The store can't be read or written: {Why}. Requests are answered 503 until it can; check free space, " +
                "permissions and the disk", error.Message);
    }

    /// <inheritdoc/>
    public void SetAside(string space, string what, string why) =>
        log.LogError("Set aside in space {Space}: {What}: {Why}; see 'rovett set-aside list'", space, what, why.TrimEnd('.'));

    /// <inheritdoc/>
    public void StoreRecovered()
    {
        Volatile.Write(ref storeLoggedAt, 0);
        log.LogInformation("The store takes writes again");
    }

    /// <summary>Another node serves a space from now on; empty: what belongs to none. Raised on the ledger's thread.</summary>
    public event Action<string>? SpaceMoved;

    /// <inheritdoc/>
    public void Moved(string space) => SpaceMoved?.Invoke(space);

    /// <summary>The bugs seen in a space, or in no space that is known, newest first.</summary>
    public IReadOnlyList<Fault> Of(string space) => [.. All.Where(f => f.Space is null || f.Space == space)];

    /// <summary>The bugs seen, newest first.</summary>
    public IReadOnlyList<Fault> All =>
        [.. seen
        .Select(s => new Fault(s.Key.Space, s.Key.Where, s.Key.What, s.Value.Count, new StoredTime(s.Value.LastMicros)))
        .OrderByDescending(f => f.Last.Micros)];
}
