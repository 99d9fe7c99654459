using System.Collections.Concurrent;
using Rovett.Core.Ledgers;
using Rovett.Service.Ledgers;

namespace Rovett.Service.Cluster;

/// <summary>What is revoked is answered once it counts at every node that holds sessions: each said so, or does not act any more on what it
/// was told before.</summary>
/// <param name="lease">For how long this process may act for its spaces.</param>
sealed class RevocationGate(Lease lease) : IAnswerGate, IDisposable
{
    static readonly TimeSpan LookEvery = TimeSpan.FromMilliseconds(20);

    sealed record Waiting(IReadOnlyList<(ServedLink Link, ulong Commit)> On, TimeSpan NotBefore, Action Answer);

    readonly ConcurrentDictionary<ServedLink, bool> links = new();
    readonly ConcurrentDictionary<string, TimeSpan> heldBack = new();
    readonly Lock gate = new();
    List<Waiting> waiting = [];
    Timer? looks;

    /// <summary>A node begins to be told what its sessions are sent.</summary>
    public void Add(ServedLink link) => links[link] = true;

    /// <summary>Ends all links: this process stops.</summary>
    public void Close()
    {
        foreach (var link in links.Keys) link.Close();
    }

    /// <summary>Sessions of a space may be at nodes that the process told which served it before, and which is gone: what is revoked is not
    /// answered before they have ended.</summary>
    public void HoldBack(string space) => heldBack[space] = lease.Now + Lease.Lasts;

    /// <inheritdoc/>
    public void WhenItCounts(IReadOnlyList<string> spaces, Action answer)
    {
        var notBefore = TimeSpan.Zero;
        foreach (var space in spaces)
        {
            if (!heldBack.TryGetValue(space, out var until)) continue;
            if (until > lease.Now) notBefore = until > notBefore ? until : notBefore;
            else heldBack.TryRemove(KeyValuePair.Create(space, until));
        }
        List<(ServedLink Link, ulong Commit)> on = [];
        foreach (var link in links.Keys)
        {
            if (link.IsPast) links.TryRemove(link, out _);
            else if (link.Sent is var commit && !link.Counts(commit)) on.Add((link, commit));
        }
        if (on.Count == 0 && notBefore == TimeSpan.Zero)
        {
            answer();
            return;
        }
        lock (gate)
        {
            waiting.Add(new Waiting(on, notBefore, answer));
            looks ??= new Timer(_ => Look(), null, LookEvery, LookEvery);
        }
        foreach (var (link, commit) in on) link.Want(commit);
    }

    /// <summary>Gives the answers that wait for nothing any more.</summary>
    public void Look()
    {
        List<Waiting> ready;
        lock (gate)
        {
            if (waiting.Count == 0)
            {
                looks?.Dispose();
                looks = null;
                return;
            }
            ready = waiting.FindAll(w => w.NotBefore <= lease.Now && w.On.All(o => o.Link.Counts(o.Commit)));
            if (ready.Count > 0) waiting = waiting.FindAll(w => !ready.Contains(w));
        }
        foreach (var one in ready) one.Answer();
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        lock (gate) looks?.Dispose();
    }
}
