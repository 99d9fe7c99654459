using System.Runtime.InteropServices;
using Rovett.Core.Nodes;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>Index of the connected users of one space: by the logs they see, the addresses they hold, and the subjects they look at.
/// Owned by the ledger's thread.</summary>
sealed class ConnectedUsers(SpaceState space, Residents residents)
{
    readonly HashSet<UserState> connected = [];
    readonly Dictionary<string, long> connectedBy = [];
    readonly Dictionary<string, HashSet<UserState>> holders = []; // not of everyone
    readonly Dictionary<string, List<UserState>> attending = [];

    /// <summary>Puts a connected user into the lists of the logs it sees something of.</summary>
    public void Join(UserState user)
    {
        space.UserLogs.Ensure(user);
        connected.Add(user);
        space.Agenda.IsConnected = true;
        space.Port.Add(new NodeRev(user.Node, user.Rev));
        foreach (var log in user.Logs!) Enlist(user, log);
        user.HoldsHere = [.. user.Held.Where(a => a != "everyone")];
        foreach (var address in user.HoldsHere)
        {
            if (!holders.TryGetValue(address, out var users)) holders[address] = users = [];
            users.Add(user);
        }
        Count(user);
    }

    public void Enlist(UserState user, UserLog log)
    {
        var member = new Member(user, log, user.AddressIndexFor(log.Log.Audience), space.StateOf(log.Log));
        user.Members.Add(member);
    }

    /// <summary>Takes a user out of all lists.</summary>
    public void Leave(UserState user)
    {
        space.Stirred++;
        residents.Add(user);
        connected.Remove(user);
        space.Agenda.IsConnected = connected.Count > 0;
        foreach (var member in user.Members)
        {
            member.Leave();
        }
        user.Members.Clear();
        foreach (var address in user.HoldsHere)
        {
            if (holders.TryGetValue(address, out var users) && users.Remove(user) && users.Count == 0) holders.Remove(address);
        }
        user.HoldsHere = [];
        CountOut(user);
    }

    void CountOut(UserState user)
    {
        foreach (var address in user.JoinedAs)
        {
            if (--CollectionsMarshal.GetValueRefOrAddDefault(connectedBy, address, out _) <= 0) connectedBy.Remove(address);
        }
        user.JoinedAs = [];
    }

    /// <summary>Counts the user as connected by each address held, as long as one of its sessions answers.</summary>
    public void Count(UserState user)
    {
        space.Stirred++;
        CountOut(user);
        if (!user.Sessions.Exists(s => !s.Silent)) return;
        user.JoinedAs = [.. user.Held];
        foreach (var address in user.JoinedAs) CollectionsMarshal.GetValueRefOrAddDefault(connectedBy, address, out _)++;
    }

    /// <summary>Users with a live session that answers who hold an address.</summary>
    public long With(string address) => connectedBy.GetValueOrDefault(address);

    /// <summary>Everybody connected who holds an address.</summary>
    public IReadOnlyCollection<UserState> Holding(string address) =>
        address == "everyone" ? connected : holders.TryGetValue(address, out var users) ? users : [];

    /// <summary>Everybody connected.</summary>
    public IReadOnlyCollection<UserState> All => connected;

    /// <summary>Sets the subject that a session's user is looking at; null: none.</summary>
    public void Attend(UserState user, SessionPlace place, string? subject)
    {
        var before = place.Attends;
        place.Attends = subject;
        if (before is not null && before != subject && !user.Sessions.Exists(s => s.Attends == before)
            && attending.TryGetValue(before, out var list))
        {
            list.Remove(user);
            if (list.Count == 0) attending.Remove(before);
        }
        if (subject is null) return;
        if (!attending.TryGetValue(subject, out var now)) attending[subject] = now = [];
        if (!now.Contains(user)) now.Add(user);
    }

    /// <summary>The users who are looking at a subject.</summary>
    public IReadOnlyList<UserState> Attending(string? subject) =>
        subject is not null && attending.TryGetValue(subject, out var list) ? list : [];
}
