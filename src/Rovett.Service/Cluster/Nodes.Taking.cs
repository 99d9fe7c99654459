using System.Net.Sockets;
using Rovett.Storage.Postgres;

namespace Rovett.Service.Cluster;

/// <summary>Taking spaces and giving them up.</summary>
public sealed partial class Nodes
{
    async Task BeginAll(IEnumerable<(int Id, string Name, long Term)> taken)
    {
        var begun = taken.Where(t => !mine.ContainsKey(t.Id)).ToList();
        if (begun.Count == 0 || isLeaving) return;
        // What another process changed before it gave them up counts here before anything is answered.
        await serving.CatchUp();
        foreach (var (id, name, term) in begun)
        {
            mine[id] = (name, term, Lease.Now);
            if (!await serving.Begin(name)) mine.TryRemove(id, out _); // the next look tries again
            else log.LogInformation("This node serves the space {Space}", name);
        }
    }

    /// <summary>Gives up what is to be served elsewhere: at once what operators want elsewhere, and one at a time what nobody
    /// uses.</summary>
    async Task GiveUp(ClusterNow seen, HashSet<Guid> gone)
    {
        if (isLeaving) return; // whoever stops it gives them up
        bool isAlone = IsAlone(seen);
        List<OwnedSpace> own = [.. seen.Spaces.Where(s => s.Owner == me.Incarnation)];
        if (IsLeaving || isAlone)
        {
            if (isAlone && own.Count > 0) log.LogWarning("No other node reaches this one: it serves no spaces until one does");
            await Give([.. own.Select(s => (s.Space, s.Name))]);
            return;
        }
        // A process that has just died still has a fresh sign of life.
        var candidates = Placing.Candidates(seen, gone);
        bool hasMoved = false;
        foreach (var space in own)
        {
            if (Placing.Of(space, candidates) is not { } to || IsMe(to)) continue;
            bool isWanted = to.Url == space.Wanted;
            if (!isWanted && (hasMoved || !serving.IsIdle(space.Name))) continue;
            await Give([(space.Space, space.Name)]);
            hasMoved |= !isWanted;
        }
    }

    async Task Give(IReadOnlyList<(int Id, string Name)> given)
    {
        if (given.Count == 0) return;
        foreach (var (_, name) in given) await serving.End(name);
        foreach (var (id, _) in given) mine.TryRemove(id, out _);
        table.Give([.. given.Select(g => g.Id)]);
        log.LogInformation("This node gives up {Spaces}", string.Join(", ", given.Select(g => g.Name)));
        toLook.Release();
    }

    /// <summary>Takes what nobody serves and is to be served here, or what is asked for here and nobody takes.</summary>
    async Task Take(ClusterNow seen, HashSet<Guid> gone)
    {
        if (IsLeaving || toldClock || IsAlone(seen)) return;
        var candidates = Placing.Candidates(seen, gone);
        var byLife = seen.Nodes.ToDictionary(n => n.Incarnation);
        var toTake = new List<OwnedSpace>();
        foreach (var space in seen.Spaces)
        {
            if (space.Owner == me.Incarnation || !MayBeTaken(space, byLife, gone)) continue;
            bool isNeeded = needed.TryGetValue(space.Name, out var since) && Lease.Now - since > WantedAtOnce;
            if (isNeeded || Placing.Of(space, candidates) is not { } node || IsMe(node)) toTake.Add(space);
            if (toTake.Count == MostAtOnce) break;
        }
        if (toTake.Count == 0) return;
        var taken = table.Take(toTake, gone);
        var begun = toTake.Where(s => taken.ContainsKey(s.Space)).Select(s => (s.Space, s.Name, Term: taken[s.Space])).ToList();
        foreach (var space in toTake) needed.TryRemove(space.Name, out _);
        foreach (var (_, name, term) in begun)
        {
            // What its process told other nodes may be acted on for a moment yet; of a lapsed one that is over.
            var was = toTake.Find(s => s.Name == name)!.Owner;
            if (was is { } life && (gone.Contains(life) || !byLife.ContainsKey(life))) revocations.HoldBack(name);
            if (places.TryGetValue(name, out var before)) before.End(isAlive: false); // nobody's it was, or of one that is gone
            places[name] = new Place(me.Incarnation, me.Name, term);
        }
        await BeginAll(begun);
        toLook.Release();
    }

    /// <summary>Processes that have certainly died although their last sign of life still counts.</summary>
    HashSet<Guid> Gone(ClusterNow seen) => seen.Nodes
        .Where(n => n.IsAlive && !n.IsConnected && !IsMe(n) && IsRefused(new Uri(n.Url))).Select(n => n.Incarnation).ToHashSet();

    bool MayBeTaken(OwnedSpace space, Dictionary<Guid, NodeRow> byLife, HashSet<Guid> gone)
    {
        if (space.Owner is not { } life || !byLife.TryGetValue(life, out var owner)) return true; // nobody's, or of a life that is over
        // A restarted database has everybody's signs of life late: each has the time to give its next.
        return gone.Contains(life) || (!owner.IsAlive && Lease.Unbroken > LapsedAfter);
    }

    /// <summary>Nobody listens at an address of a machine that answers: the process is gone.</summary>
    static bool IsRefused(Uri url)
    {
        using var socket = new Socket(SocketType.Stream, ProtocolType.Tcp);
        using var within = new CancellationTokenSource(ProbeWithin);
        try
        {
            socket.ConnectAsync(url.Host.Trim('[', ']'), url.Port, within.Token).AsTask().GetAwaiter().GetResult();
            return false;
        }
        catch (SocketException error)
        {
            return error.SocketErrorCode == SocketError.ConnectionRefused;
        }
        catch (OperationCanceledException)
        {
            return false;
        }
    }
}
