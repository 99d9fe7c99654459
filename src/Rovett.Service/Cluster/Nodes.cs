using System.Collections.Concurrent;
using Npgsql;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Service.Live;
using Rovett.Service.Spaces;
using Rovett.Service.Tls;
using Rovett.Storage;
using Rovett.Storage.Homes;
using Rovett.Storage.Postgres;

namespace Rovett.Service.Cluster;

/// <summary>This process among the nodes that share a database: it gives signs of life, takes the spaces that are to be its own, gives
/// up those that are not, and knows where each is served. The database decides; see docs/decisions/2026-11-29-nodes.md.</summary>
public sealed partial class Nodes : IDisposable
{
    static readonly TimeSpan LookEvery = TimeSpan.FromMilliseconds(500), LapsedAfter = NodeRow.Holds,
        SessionsEndAfter = TimeSpan.FromSeconds(10), AnsweredWithin = TimeSpan.FromSeconds(1),
        ClockDiffersBy = TimeSpan.FromSeconds(2), ProbeWithin = TimeSpan.FromMilliseconds(300), WantedAtOnce = TimeSpan.FromSeconds(1),
        ForgetEvery = TimeSpan.FromHours(1), JustAfter = TimeSpan.FromMilliseconds(10);
    const int MostAtOnce = 500;

    readonly NodeIdentity me;
    readonly PostgresNode table;
    readonly PostgresHome home;
    readonly ServiceInfo info;
    readonly Serving serving;
    readonly SpaceDirectory spaces;
    readonly SessionRegistry sessions;
    readonly RevocationGate revocations;
    readonly Faults faults;
    readonly ILogger log;
    readonly CancellationTokenSource stop = new();
    readonly SemaphoreSlim toLook = new(0);
    readonly ConcurrentDictionary<string, Place> places = new();
    readonly ConcurrentDictionary<int, (string Name, long Term, TimeSpan Since)> mine = new();
    readonly ConcurrentDictionary<string, TimeSpan> needed = new();
    readonly ConcurrentQueue<string> ending = new();
    readonly SignsOfLife beats;
    readonly Reach reach;
    readonly Task looks;
    volatile ClusterNow? now;
    volatile TaskCompletionSource changed = new(TaskCreationOptions.RunContinuationsAsynchronously);
    volatile bool isLeaving, isGone;
    long looked;
    bool toldClock, toldUnreachable, sessionsEnded;
    TimeSpan forgotAt;

    internal Nodes(NodeIdentity me, PostgresHome home, ServiceInfo info, Lease lease, Serving serving, SpaceDirectory spaces,
        SessionRegistry sessions, LedgerPump ledger, RevocationGate revocations, Faults faults, ILogger<Nodes> log)
    {
        this.revocations = revocations;
        (this.me, this.home, this.info, Lease, this.serving, this.spaces) = (me, home, info, lease, serving, spaces);
        (this.sessions, this.faults, this.log) = (sessions, faults, log);
        table = home.Join(me.Name, ServiceInfo.Version, me.Fingerprint);
        faults.SpaceMoved += Moved;
        beats = new SignsOfLife(table, lease, ledger, faults,
            () => [.. mine.Select(m => (m.Key, m.Value.Name, m.Value.Term, m.Value.Since))], Lost, () => toLook.Release(), Replaced);
        reach = new Reach(() => [.. now?.Nodes.Where(n => n.IsAlive && !IsMe(n)).Select(n => (n.Incarnation, new Uri(n.Url))) ?? []],
            faults, () => toLook.Release());
        looks = Task.Run(Look);
    }

    /// <summary>For how long this process may act for its spaces.</summary>
    public Lease Lease { get; }

    /// <summary>This node's address.</summary>
    public string Name => me.Name;

    /// <summary>The nodes and spaces as last seen; null: not yet.</summary>
    public ClusterNow? Now => now;

    /// <summary>How many spaces this node serves.</summary>
    public int SpacesServed => mine.Count;

    /// <summary>It takes requests and passes them on, and serves no spaces.</summary>
    public bool IsLeaving => isLeaving || (now?.Nodes.FirstOrDefault(IsMe)?.IsLeaving ?? false);

    /// <summary>It can't reach nodes that serve spaces, and others can.</summary>
    public bool IsCutOff => now is { } seen && Me(seen) is { } node && Partition.IsCutOff(seen, node);

    /// <summary>The addresses of the live nodes that this one can't reach.</summary>
    public IReadOnlyList<string> Unreached =>
        now is { } seen && Me(seen) is { } node ? [.. Partition.Unreached(seen, node).Select(n => n.Url)] : [];

    NodeRow? Me(ClusterNow seen) => seen.Nodes.FirstOrDefault(IsMe);

    bool IsAlone(ClusterNow seen) => Me(seen) is { } node && Partition.IsAlone(seen, node);

    /// <summary>This node can't reach the node of a place.</summary>
    internal bool IsLost(Place place) => LossOf(place).IsCancellationRequested;

    /// <summary>Cancelled once this node can no longer reach the node of a place.</summary>
    internal CancellationToken LossOf(Place place) => place.Owner is { } owner ? reach.LossOf(owner) : CancellationToken.None;

    /// <summary>The process is stopping: its sessions reconnect through other nodes.</summary>
    internal bool Stops => isLeaving || isGone;

    bool IsMe(NodeRow node) => node.Incarnation == me.Incarnation;

    // ---- where spaces are

    /// <summary>Where a space is served; null: no space of that name is known.</summary>
    internal Place? PlaceOf(string space) => places.GetValueOrDefault(space);

    /// <summary>Whether this process serves a space now.</summary>
    internal bool IsHere(SpaceRuntime space) => space.IsHere && Lease.Holds && mine.ContainsKey(space.Id);

    /// <summary>Whether this process serves a space; one that it has just taken is waited for.</summary>
    internal async Task<bool> Serves(SpaceRuntime space)
    {
        using var patience = new CancellationTokenSource(Relay.Patience);
        for (; ; )
        {
            var next = Changed;
            if (IsHere(space)) return true;
            if (patience.IsCancellationRequested || PlaceOf(space.Name)?.Owner != me.Incarnation) return false;
            await Relay.Wait(next, Relay.LookAgain, patience.Token);
        }
    }

    /// <summary>The node whose session an id is; null: none that is known.</summary>
    internal Place? HolderOf(string session) => now?.Nodes.FirstOrDefault(n => session.EndsWith("." + NodeIdentity.TagOf(n.Incarnation),
        StringComparison.Ordinal)) is { } node ? new Place(node.Incarnation, node.Url, 0) : null;

    /// <summary>Done when something has changed since it was asked for.</summary>
    internal Task Changed => changed.Task;

    /// <summary>Has the database asked now. Done when that was answered; while it does not answer, after a second, and what was known is
    /// all there is.</summary>
    internal async Task LookNow()
    {
        using var patience = new CancellationTokenSource(AnsweredWithin);
        long before = Volatile.Read(ref looked);
        // The one that is under way may have asked before.
        while (Volatile.Read(ref looked) is var count && count < before + 2 && !patience.IsCancellationRequested)
        {
            var next = Changed;
            toLook.Release();
            if (Volatile.Read(ref looked) == count) await Task.WhenAny(next, Task.Delay(Timeout.Infinite, patience.Token));
        }
    }

    /// <summary>Somebody waits for a space that nobody serves.</summary>
    internal void Need(string space)
    {
        if (needed.TryAdd(space, Lease.Now)) toLook.Release();
    }

    /// <summary>A node could not be reached: it may be gone.</summary>
    internal void Suspect() => toLook.Release();

    // ---- what others have taken

    void Replaced()
    {
        isGone = true;
        home.EndsWith(new StoreException($"Another process runs as the node {me.Name}. Give each node an address of its own (nodeUrl)."));
    }

    void Lost(int id, string name)
    {
        if (!mine.TryRemove(id, out _)) return;
        serving.Stop(name); // before the lease holds again
        log.LogWarning("The space {Space} is served by another node from now on", name);
        ending.Enqueue(name);
        toLook.Release();
    }

    /// <summary>The store refused to write for a space.</summary>
    void Moved(string name)
    {
        if (name.Length == 0) name = "main"; // what belongs to no space goes with it
        foreach (var (id, held) in mine)
        {
            if (held.Name == name) Lost(id, name);
        }
    }

    // ---- spaces

    async Task Look()
    {
        while (!stop.IsCancellationRequested)
        {
            var next = LookEvery;
            try
            {
                await Round();
                next = NextLook();
                toldUnreachable = false;
            }
            catch (Exception error) when (error is NpgsqlException or StoreException or InvalidOperationException or IOException)
            {
                if (!toldUnreachable) log.LogWarning("The nodes can't be looked up: {Why}", error.Message);
                toldUnreachable = true;
            }
            catch (Exception error)
            {
                faults.Bug(null, nameof(Nodes), error);
            }
            EndUnserved();
            Interlocked.Increment(ref looked);
            Interlocked.Exchange(ref changed, new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously)).SetResult();
            try
            {
                await toLook.WaitAsync(next, stop.Token);
                while (toLook.Wait(0, CancellationToken.None))
                {
                    // Once for all who asked.
                }
            }
            catch (OperationCanceledException)
            {
                return;
            }
        }
    }

    /// <summary>How long until the next look: half a second, or less when a silent node lapses before.</summary>
    TimeSpan NextLook()
    {
        var next = LookEvery;
        foreach (var node in now?.Nodes ?? [])
        {
            if (node.IsAlive && !IsMe(node) && NodeRow.Holds - node.Beat is var lapses && lapses < next) next = lapses;
        }
        return next + JustAfter;
    }

    async Task Round()
    {
        var seen = table.Look();
        if (seen.Epoch != info.Epoch)
        {
            home.EndsWith(new StoreException($"The store began another life ({seen.Epoch}): another node found that the database lost " +
                "commits that it had confirmed. The service must start anew."));
            return;
        }
        now = seen;
        CompareClocks(seen);
        TellUnreached(seen);
        Note(seen);
        // Also what was another's for a while and is nobody's by now: what is remembered of it is not so any more.
        foreach (var space in seen.Spaces)
        {
            if (space.Owner != me.Incarnation) Lost(space.Space, space.Name);
        }
        while (ending.TryDequeue(out var name)) await serving.End(name);
        serving.Settle();
        if (isGone) return;
        await BeginAll(seen.Spaces.Where(s => s.Owner == me.Incarnation).Select(s => (s.Space, s.Name, s.Term)));
        if (!Lease.Holds) return;
        var gone = Gone(seen);
        await GiveUp(seen, gone);
        await Take(seen, gone);
        if (Lease.Now - forgotAt > ForgetEvery)
        {
            forgotAt = Lease.Now;
            table.ForgetOld();
        }
    }

    /// <summary>Tells the others which nodes this one can't reach, when that has changed.</summary>
    void TellUnreached(ClusterNow seen)
    {
        if (Me(seen) is not { } node) return;
        var lost = reach.Lost;
        if (lost.Count == node.Unreached.Count && lost.All(node.Unreached.Contains)) return;
        table.SetUnreached(lost);
        if (lost.Count == 0) log.LogInformation("This node reaches all other nodes again");
        else
        {
            log.LogWarning("This node can't reach {Nodes}", string.Join(", ", seen.Nodes.Where(n => lost.Contains(n.Incarnation))
                .Select(n => n.Url)));
        }
        toLook.Release();
    }

    /// <summary>Notes where each space is served.</summary>
    void Note(ClusterNow seen)
    {
        var byLife = seen.Nodes.ToDictionary(n => n.Incarnation);
        foreach (var space in seen.Spaces)
        {
            var owner = space.Owner is { } life ? byLife.GetValueOrDefault(life) : null;
            var url = owner is { IsAlive: true } ? owner.Url : null;
            if (url is not null) needed.TryRemove(space.Name, out _);
            if (places.TryGetValue(space.Name, out var known) && known.Owner == space.Owner && known.Url == url && known.Term == space.Term)
                continue;
            bool isSame = known is not null && known.Owner == space.Owner && known.Term == space.Term;
            places[space.Name] = isSame ? known! with { Url = url } : new Place(space.Owner, url, space.Term);
            if (!isSame) known?.End(known.Owner is { } before && byLife.TryGetValue(before, out var node) && node.IsAlive);
        }
        var names = seen.Spaces.Select(s => s.Name).ToHashSet();
        foreach (var (name, place) in places)
        {
            if (!names.Contains(name) && places.TryRemove(name, out _)) place.End(isAlive: true);
        }
    }

    /// <summary>Without a sign of life for long, others have what was served here, and what devices here are told would be old.</summary>
    void EndUnserved()
    {
        if (Lease.Age < SessionsEndAfter)
        {
            sessionsEnded = false;
            return;
        }
        if (sessionsEnded) return;
        sessionsEnded = true;
        foreach (var session in sessions.All) session.End("node-unavailable", 5000);
    }

    void CompareClocks(ClusterNow seen)
    {
        bool differs = (seen.Now - DateTimeOffset.UtcNow).Duration() > ClockDiffersBy;
        if (differs && !toldClock)
        {
            log.LogWarning("The clocks of this machine and of the database are {Seconds:0.0} s apart: this node takes no spaces until " +
                "they agree", (seen.Now - DateTimeOffset.UtcNow).Duration().TotalSeconds);
        }
        toldClock = differs;
    }

    /// <summary>The clock of this machine is not that of the database.</summary>
    public bool ClockDiffers => toldClock;

    // ---- operators

    /// <summary>Has a space served by a node, or by any again.</summary>
    public void Move(SpaceRuntime space, string? node)
    {
        table.Want(space.Id, node);
        toLook.Release();
    }

    /// <summary>Has a node give all its spaces up, or serve spaces again.</summary>
    /// <returns>False: there is no such node.</returns>
    public bool Drain(string node, bool drains)
    {
        bool isThere = table.SetLeaving(node, drains);
        toLook.Release();
        return isThere;
    }

    /// <summary>Gives all spaces up, for the others to take them; requests are passed on from now on.</summary>
    public async Task Leave()
    {
        if (isLeaving || isGone) return;
        isLeaving = true;
        try
        {
            table.SetLeaving(me.Name, isLeaving: true);
            await Give([.. mine.Select(m => (m.Key, m.Value.Name))]);
            // Those that pass requests on know within a moment where the spaces are by now.
            await LookNow();
        }
        catch (Exception error) when (error is NpgsqlException or StoreException)
        {
            log.LogWarning("The spaces of this node can't be given up: {Why} Others take them within {Seconds} s", error.Message,
                LapsedAfter.TotalSeconds);
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        if (stop.IsCancellationRequested) return;
        stop.Cancel();
        beats.Dispose();
        reach.Dispose();
        looks.Wait(TimeSpan.FromSeconds(5));
        try
        {
            if (!isGone) table.Leave();
        }
        catch (Exception error) when (error is NpgsqlException or StoreException)
        {
            // Its sign of life lapses.
        }
        table.Dispose();
        stop.Dispose();
    }
}
