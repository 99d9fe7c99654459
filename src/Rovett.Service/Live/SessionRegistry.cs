using System.Collections.Concurrent;
using System.Diagnostics;
using Rovett.Core.Wire;
using Rovett.Service.Diagnostics;
using Rovett.Service.Meters;

namespace Rovett.Service.Live;

/// <summary>The live sessions of this process, and the one timer that all of them share.</summary>
public sealed class SessionRegistry : IDisposable
{
    readonly ConcurrentDictionary<string, IOpenSession> sessions = new();
    static readonly TimeSpan CountHolds = TimeSpan.FromMilliseconds(500);

    readonly Dictionary<(string Space, string Transport), SessionCount> ended = [];
    readonly Lock endedGate = new();
    readonly Repeating ticks;
    readonly Faults faults;
    volatile Tuple<long, IReadOnlyList<SessionCount>> counted = Tuple.Create(0L, (IReadOnlyList<SessionCount>)[]);

    /// <summary>Starts the timer.</summary>
    public SessionRegistry(TimeProvider clock, Faults faults)
    {
        this.faults = faults;
        ticks = new Repeating("session ticks", TimeSpan.FromSeconds(1), clock, faults, Tick);
    }

    /// <summary>True once the service is going down: nobody else is let in.</summary>
    public bool Closing { get; private set; }

    /// <summary>Adds a session.</summary>
    public void Add(IOpenSession session) => sessions[session.Id] = session;

    /// <summary>Removes a session.</summary>
    public void Remove(IOpenSession session)
    {
        if (!sessions.TryRemove(session.Id, out _)) return;
        lock (endedGate) Add(ended, session, isOpen: false);
    }

    static void Add(Dictionary<(string, string), SessionCount> counts, IOpenSession session, bool isOpen)
    {
        var key = (session.Space.Name, session.TransportName);
        if (!counts.TryGetValue(key, out var count)) counts[key] = count = new SessionCount(key.Name, key.TransportName);
        if (session is LiveSession live)
        {
            count.Bytes += live.Bytes;
            count.Acked += live.Acked;
            if (!live.IsServedHere) return; // the rest is counted where its space is served
        }
        count.Sent += session.Sent;
        if (!isOpen) return;
        count.Open++;
        count.Waiting += session.Outstanding;
        if (session.StateName == LiveSession.CatchingUp) count.Behind++;
    }

    /// <summary>Counts the sessions, by space and transport; at most once in half a second.</summary>
    public IReadOnlyList<SessionCount> Count()
    {
        var (at, known) = counted;
        if (known.Count > 0 && Stopwatch.GetElapsedTime(at) < CountHolds) return known;
        Dictionary<(string, string), SessionCount> counts;
        lock (endedGate) counts = ended.ToDictionary(e => e.Key, e => e.Value with { });
        foreach (var session in sessions.Values) Add(counts, session, isOpen: true);
        known = [.. counts.Values];
        counted = Tuple.Create(Stopwatch.GetTimestamp(), known);
        return known;
    }

    /// <summary>A session by its id, or null.</summary>
    public IOpenSession? Find(string id) => sessions.GetValueOrDefault(id);

    /// <summary>Every session.</summary>
    public IEnumerable<IOpenSession> All => sessions.Values;

    /// <summary>The sessions of a space.</summary>
    public IEnumerable<IOpenSession> In(string space) => sessions.Values.Where(s => s.Space.Name == space);

    /// <summary>Cuts a device's WebSockets, without a word.</summary>
    internal void CutWebSockets(string device)
    {
        foreach (var session in sessions.Values)
        {
            if (session.Device == device && session is LiveSession { Transport: TransportKind.WebSocket }) session.Cut();
        }
    }

    /// <summary>Tells every session that the service goes down, and to come back spread over a time.</summary>
    public async Task Close(int comeBackWithinMs, TimeSpan patience)
    {
        Closing = true;
        foreach (var session in sessions.Values) session.End("shutdown", comeBackWithinMs);
        using var limit = new CancellationTokenSource(patience);
        while (!sessions.IsEmpty && !limit.IsCancellationRequested) await Task.Delay(20, CancellationToken.None);
        foreach (var session in sessions.Values)
        {
            try
            {
                session.Cut();
            }
            catch (Exception error)
            {
                faults.Bug(session.Space.Name, "session end", error);
            }
        }
    }

    Task Tick()
    {
        foreach (var session in sessions.Values)
        {
            try
            {
                if (session is LiveSession live && !live.Tick()) session.Cut();
            }
            catch (Exception error)
            {
                faults.Thrown(session.Space.Name, "session tick", error);
            }
        }
        return Task.CompletedTask;
    }

    /// <inheritdoc/>
    public void Dispose() => ticks.Dispose();
}
