using System.Collections.Concurrent;
using Rovett.Core.Wire;
using Rovett.Service.Diagnostics;

namespace Rovett.Service.Live;

/// <summary>The live sessions of this process, and the one timer that all of them share.</summary>
public sealed class SessionRegistry : IDisposable
{
    readonly ConcurrentDictionary<string, (LiveSession Session, Action Abort)> sessions = new();
    readonly Repeating ticks;
    readonly Faults faults;

    /// <summary>Starts the timer.</summary>
    public SessionRegistry(TimeProvider clock, Faults faults)
    {
        this.faults = faults;
        ticks = new Repeating("session ticks", TimeSpan.FromSeconds(1), clock, faults, Tick);
    }

    /// <summary>True once the service is going down: nobody else is let in.</summary>
    public bool Closing { get; private set; }

    /// <summary>Adds a session with what cuts its connection.</summary>
    public void Add(LiveSession session, Action abort) => sessions[session.Id] = (session, abort);

    /// <summary>Removes a session.</summary>
    public void Remove(LiveSession session) => sessions.TryRemove(session.Id, out _);

    /// <summary>A session by its id, or null.</summary>
    public LiveSession? Find(string id) => sessions.TryGetValue(id, out var found) ? found.Session : null;

    /// <summary>The sessions of a space.</summary>
    public IEnumerable<LiveSession> In(string space) => sessions.Values.Where(s => s.Session.Space.Name == space).Select(s => s.Session);

    /// <summary>Cuts a device's WebSockets, without a word.</summary>
    internal void CutWebSockets(string device)
    {
        foreach (var (session, abort) in sessions.Values)
        {
            if (session.Device == device && session.Transport == TransportKind.WebSocket) abort();
        }
    }

    /// <summary>Tells every session that the service goes down, and to come back spread over a time.</summary>
    public async Task Close(int comeBackWithinMs, TimeSpan patience)
    {
        Closing = true;
        foreach (var (session, _) in sessions.Values) session.End("shutdown", comeBackWithinMs);
        using var limit = new CancellationTokenSource(patience);
        while (!sessions.IsEmpty && !limit.IsCancellationRequested) await Task.Delay(20, CancellationToken.None);
        foreach (var (session, abort) in sessions.Values)
        {
            try
            {
                abort();
            }
            catch (Exception error)
            {
                faults.Bug(session.Space.Name, "session end", error);
            }
        }
    }

    Task Tick()
    {
        foreach (var (session, abort) in sessions.Values)
        {
            try
            {
                if (!session.Tick()) abort();
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
