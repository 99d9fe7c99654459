using System.Runtime.InteropServices;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Presence;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>One space as the ledger holds it in memory: logs and users are loaded when they are first needed, nothing
/// is read at start. Owned by the ledger's thread.</summary>
internal sealed class SpaceState
{
    readonly ILedgerStore store;
    readonly LedgerOptions options;
    readonly ServiceClock clock;
    readonly Residents residents;
    readonly Dictionary<string, AddressLog> logs = [];
    readonly Dictionary<long, LogState> logsById = [];
    readonly Dictionary<string, List<AddressLog>> audiencesOf = [];
    readonly Dictionary<string, UserState> users = [];
    readonly Dictionary<long, UserState> usersById = [];
    readonly HashSet<UserState> connected = [];
    readonly Dictionary<string, long> connectedBy = [];
    readonly Dictionary<string, HashSet<UserState>> holders = []; // connected; not of everyone
    readonly Dictionary<string, RoleRow?> roles = [];
    readonly Dictionary<string, List<UserState>> attending = [];

    public SpaceState(SpaceRow row, ILedgerStore store, LedgerOptions options, ServiceClock clock, RecentEntries recent,
        Residents residents)
    {
        Row = row;
        this.residents = residents;
        this.store = store;
        this.options = options;
        this.clock = clock;
        Head = row.Head;
        Floor = row.Floor;
        LastTime = row.LastTime;
        Cursors = new CursorSeal(row.Key, store.Epoch, row.Name, "cursor");
        Recent = recent;
        LastReceipt = store.LastReceipt(row.Id);
        Subscriptions = new Subscriptions(this, store);
        Topics = new TopicRules(this, store);
        Presence = new PresenceBoards(new PresenceSource(this));
        HasTombstones = store.HasTombstones(row.Id);
    }

    /// <summary>Somebody was erased whose tokens may still run.</summary>
    public bool HasTombstones { get; set; }

    /// <summary>An id as a hash that only this space's key gives.</summary>
    public byte[] HashOf(string user) => Tombstones.Hash(Row.Key, user);

    /// <summary>From when on credentials of an id hold that nobody is known by: 0, unless somebody was erased by it.</summary>
    public long TombstoneOf(string user) => HasTombstones ? store.FindTombstone(Id, HashOf(user)) ?? 0 : 0;

    /// <summary>Who is shown to whom.</summary>
    public PresenceBoards Presence { get; }

    /// <summary>Counts up whenever somebody comes, goes, takes or gives up a channel, or what somebody may do changes.</summary>
    public long Stirred { get; set; }

    /// <summary>The ledger's attempt that last used this space.</summary>
    internal long TouchedBy { get; set; }

    /// <summary>The number of what is said next on a topic.</summary>
    internal long NextSaid { get; set; }

    /// <summary>Who has subscribed to what.</summary>
    public Subscriptions Subscriptions { get; }

    /// <summary>Who may do what on topics.</summary>
    public TopicRules Topics { get; }

    public SpaceRow Row { get; }
    public int Id => Row.Id;
    public CursorSeal Cursors { get; }
    public RecentEntries Recent { get; }

    /// <summary>Set while nothing may be written: what is worked out is stored later.</summary>
    public bool OnlyReads { get; set; }

    /// <summary>The newest position drawn.</summary>
    public long Head { get; private set; }

    /// <summary>Entries up to this position are not stored any more.</summary>
    public long Floor { get; set; }

    /// <summary>The newest stored time drawn.</summary>
    public StoredTime LastTime { get; private set; }

    /// <summary>The number of the newest receipt.</summary>
    public long LastReceipt { get; set; }

    /// <summary>Draws the next position and its time, later than every one before whatever the clock does.</summary>
    public (Position Position, StoredTime Time) Draw()
    {
        LastTime = new StoredTime(Math.Max(StoredTime.From(clock.GetUtcNow()).Micros, LastTime.Micros + 1));
        return (new Position(++Head), LastTime);
    }

    /// <summary>The due time now, by which what is due is judged.</summary>
    public StoredTime Due => clock.Due;

    /// <summary>A due time as it is shown.</summary>
    public StoredTime Shown(StoredTime due) => clock.Shown(due);

    /// <summary>The space's time: the clock's, but never behind what is stored.</summary>
    public StoredTime Time => new(Math.Max(StoredTime.From(clock.GetUtcNow()).Micros, LastTime.Micros));

    /// <summary>The log of one person.</summary>
    public AddressLog PersonalLog(string user)
    {
        var address = new Address(AddressKind.User, user);
        return Log(address.ToString(), null, [address]);
    }

    /// <summary>The log of an audience, made on its first send.</summary>
    public AddressLog AudienceLog(Audience audience) => Log(audience.Key, audience, audience.Includes);

    /// <summary>A log by its number.</summary>
    public AddressLog Log(long id) => logsById.TryGetValue(id, out var known) ? known.Log : Keep(store.FindLog(id)!);

    /// <summary>A log with the connected people who see something of it.</summary>
    public LogState StateOf(AddressLog log) => logsById[log.Id];

    /// <summary>The stored form of a log.</summary>
    public LogRow RowOf(AddressLog log) => log.ToRow(StateOf(log).Key);

    /// <summary>The audience logs that include an address.</summary>
    public List<AddressLog> AudiencesOf(string address)
    {
        if (audiencesOf.TryGetValue(address, out var known)) return known;
        var list = new List<AddressLog>();
        foreach (var row in store.AudiencesOf(Id, Address.OfStored(address)))
        {
            list.Add(logs.TryGetValue(row.Key, out var log) ? log : Keep(row));
        }
        return audiencesOf[address] = list;
    }

    AddressLog Log(string key, Audience? audience, IReadOnlyList<Address> addresses)
    {
        if (logs.TryGetValue(key, out var log)) return log;
        if (store.FindLog(Id, key) is { } row) return Keep(row);
        // A new audience joins the lists already in memory; those not in memory will find it in the store.
        foreach (var address in audience is null ? [] : addresses)
        {
            if (AudiencesOf(address.ToString()).Count >= Draft.MaxAudiencesPerAddress)
            {
                throw new Problem(422, "too-many-audiences", "Too many combinations of addresses",
                    $"{address} already stands in {Draft.MaxAudiencesPerAddress} different combinations of 'to' and 'except'.",
                    "Use fewer distinct combinations: a role of its own for a group that is often addressed together.").ToException();
            }
        }
        log = Keep(store.AddLog(Id, key, audience is null ? [] : addresses));
        if (audience is not null)
        {
            foreach (var address in addresses)
            {
                if (audiencesOf.TryGetValue(address.ToString(), out var list)) list.Add(log);
            }
            foreach (var user in users.Values) AddLogTo(user, log);
            Subscriptions.Made(log);
        }
        return log;
    }

    AddressLog Keep(LogRow row)
    {
        bool personal = !row.Key.StartsWith('+');
        var audience = personal ? null : Audience.Parse(row.Key);
        // An erased person's log keeps a key that is nobody's address.
        Address[] addresses = audience is not null ? [.. audience.Includes] : ErasedName.Is(row.Key)
            ? []
            : [Address.OfStored(row.Key)];
        var log = new AddressLog(row.Id, audience, addresses, store.Blocks(0, row.Id, MarkKind.Dead));
        // What changed before the floor is not stored any more; who counted before that counts anew.
        log.Load(row.Trimmed > 0 ? row with { ChangedAt = Math.Max(row.ChangedAt, Floor) } : row);
        logs[row.Key] = log;
        logsById[row.Id] = new LogState(log, row.Key);
        return log;
    }

    /// <summary>Gives a log another key: nobody's.</summary>
    public void Rename(AddressLog log, string key)
    {
        var state = StateOf(log);
        logs.Remove(state.Key);
        logs[key] = log;
        state.Key = key;
        store.SaveLog(RowOf(log));
    }

    void AddLogTo(UserState user, AddressLog log)
    {
        if (user.Logs is null || user.PositionsOf(log.Audience!) is not { Count: > 0 } positions) return;
        var added = new UserLog(log, ToSegments(log, positions), null, store, user.PersonId);
        user.Logs.Add(added);
        if (user.Sessions.Count > 0) Join(user, added);
    }

    /// <summary>A user, or null when the store knows none by that id.</summary>
    public UserState? Find(string user)
    {
        if (users.TryGetValue(user, out var known)) return Settled(known);
        return store.FindPerson(Id, user) is { } row ? Settled(KeepUser(row)) : null;
    }

    /// <summary>A user by the store's number.</summary>
    public UserState? Find(long person)
    {
        if (usersById.TryGetValue(person, out var known)) return Settled(known);
        return store.FindPerson(person) is { } row ? Settled(KeepUser(row)) : null;
    }

    /// <summary>A user as policies and roles' grants have it by now: who was not looked at since they changed is
    /// brought up to them first.</summary>
    UserState Settled(UserState user)
    {
        user.WasUsed = true;
        if (user.Row.RulesSeen < Topics.RulesAt && !OnlyReads) Topics.Settle(user);
        return user;
    }

    /// <summary>A user, made when unknown.</summary>
    public UserState FindOrAdd(string user)
    {
        if (Find(user) is { } known) return known;
        var row = store.AddPerson(Id, user, null);
        if (TombstoneOf(user) is var validFrom and > 0)
        {
            row = row with { ValidFrom = validFrom };
            store.SavePerson(row);
        }
        return KeepUser(row, isNew: true);
    }

    UserState KeepUser(PersonRow row, bool isNew = false)
    {
        var user = new UserState(Id, row) { Home = this };
        if (!isNew)
        {
            user.Memberships.AddRange(store.Memberships(row.Id));
            user.Mutes.AddRange(store.MutesOf(row.Id));
        }
        if (row.RulesSeen is not null)
        {
            foreach (var (topic, since) in store.Follows(row.Id)) user.Follows[topic] = since;
        }
        users[row.User] = user;
        usersById[row.Id] = user;
        residents.Add(user);
        return user;
    }

    /// <summary>The taken ordinals of a log.</summary>
    public HashSet<long> TakenOf(AddressLog log) => StateOf(log).Taken ??= [.. store.TakenOf(log.Id)];

    /// <summary>Forgets a user that is no more.</summary>
    public void Forget(UserState user)
    {
        users.Remove(user.Id.Value);
        usersById.Remove(user.PersonId);
    }

    /// <summary>Lets a user go whom nobody needs now, with the personal log. Between batches only, so that no command
    /// holds one of them.</summary>
    public void Drop(UserState user)
    {
        if (users.GetValueOrDefault(user.Id.Value) != user) return; // another stands for it, after a failure
        Forget(user);
        if (logs.Remove("user:" + user.Id.Value, out var personal)) logsById.Remove(personal.Id);
    }

    /// <summary>A user, if in memory.</summary>
    public UserState? InMemory(string user) => users.GetValueOrDefault(user);

    /// <summary>How many users are in memory.</summary>
    public int UsersInMemory => users.Count;

    /// <summary>How many logs, addresses, roles and topics are in memory.</summary>
    public int Loose => logs.Count + audiencesOf.Count + roles.Count + Topics.Known;

    /// <summary>Lets logs go of which no user in memory sees anything, and what is only kept to be found quickly.
    /// Between batches only.</summary>
    public void Shed()
    {
        var needed = new HashSet<AddressLog>();
        foreach (var user in users.Values)
        {
            foreach (var log in user.Logs ?? []) needed.Add(log.Log);
            foreach (var place in user.Sessions)
            {
                foreach (var watch in place.SubscribedLogs) needed.Add(watch.Seen.Log);
            }
        }
        foreach (var state in logsById.Values.ToList())
        {
            if (needed.Contains(state.Log) || state.Members.Count + state.Subscribers.Count > 0) continue;
            logsById.Remove(state.Log.Id);
            logs.Remove(state.Key);
        }
        // An address stays with all its audiences, or with none.
        foreach (var (address, list) in audiencesOf.ToList())
        {
            if (list.Count == 0 || !list.TrueForAll(needed.Contains)) audiencesOf.Remove(address);
        }
        roles.Clear();
        Topics.ForgetKnown();
    }

    /// <summary>Loads the user's logs and marks, at a cost of the number of the user's logs and of what changed while
    /// it was away.</summary>
    public List<UserLog> EnsureLogs(UserState user)
    {
        if (user.Logs is null)
        {
            var stored = store.UserLogs(user.PersonId).ToDictionary(r => r.Log);
            var list = new List<UserLog> { Load(user, PersonalLog(user.Id.Value), null, stored) };
            var seen = new HashSet<long>();
            foreach (var address in user.Held.ToList())
            {
                foreach (var log in AudiencesOf(address))
                {
                    if (seen.Add(log.Id) && user.PositionsOf(log.Audience!) is { Count: > 0 } positions)
                    {
                        list.Add(Load(user, log, positions, stored));
                    }
                }
            }
            foreach (var take in store.TakesOf(user.PersonId)) list.Find(l => l.Log.Id == take.Place.Log)?.Own(take.Place.Ordinal);
            user.Logs = list;
        }
        foreach (var log in user.Logs)
        {
            log.Settle(store, Floor);
            Mute(user, log);
            if (log.IsDirty && !OnlyReads) log.Save(store, user.PersonId);
        }
        return user.Logs;
    }

    UserLog Load(UserState user, AddressLog log, List<(long After, long Until, int AddressIndex)>? positions,
        Dictionary<long, UserLogRow> stored)
    {
        var row = stored.GetValueOrDefault(log.Id);
        bool computed = false;
        var segments = positions is null ? [new Segment(0, long.MaxValue, 0)] : row?.Segments ?? ToSegments(log, positions, out computed);
        var loaded = new UserLog(log, segments, row, store, user.PersonId);
        if (row is not null && row.Gone is null) loaded.Recount();
        else if (computed) loaded.IsDirty = true; // worked out once, kept from now on
        return loaded;
    }

    /// <summary>Works out what came since while its type or subject was muted.</summary>
    void Mute(UserState user, UserLog log)
    {
        if (log.MutedThrough >= log.Log.Head) return;
        if (user.Mutes.Count > 0) log.IsDirty = true;
        FindMuted(user, log);
    }

    /// <summary>The same, for what is not stored.</summary>
    internal void FindMuted(UserState user, UserLog log)
    {
        if (user.Mutes.Count > 0)
        {
            foreach (var mute in user.Mutes)
            {
                long after = Math.Max(log.MutedThrough, OrdinalAt(log.Log, mute.After)),
                    upTo = mute.Until is { } until ? OrdinalAt(log.Log, until) : log.Log.Head;
                if (upTo <= after) continue;
                long hash = NotificationTraits.HashOf(mute.Text);
                foreach (long ordinal in mute.IsType
                    ? store.OrdinalsOfType(log.Log.Id, hash, after, upTo)
                    : store.OrdinalsAbout(log.Log.Id, hash, after, upTo))
                {
                    if (log.Muted.Contains(ordinal)) continue;
                    if (!log.Read.Contains(ordinal) && !log.Skips.Contains(ordinal)) log.CountOut(ordinal, 1);
                    log.Muted.Add(new OrdinalRun(ordinal, ordinal));
                }
            }
        }
        log.MutedThrough = log.Log.Head;
    }

    /// <summary>The ordinal of the newest notification of a log up to a position.</summary>
    public long OrdinalAt(AddressLog log, long position) =>
        position <= 0 ? 0 : position >= log.HeadPosition ? log.Head : Math.Max(log.Trimmed, store.OrdinalAt(log.Id, position));

    Segment[] ToSegments(AddressLog log, List<(long After, long Until, int AddressIndex)> positions) => ToSegments(log, positions, out _);

    /// <param name="computed">Set when the store had to be asked.</param>
    Segment[] ToSegments(AddressLog log, List<(long After, long Until, int AddressIndex)> positions, out bool computed)
    {
        var segments = new List<Segment>();
        bool asked = false;
        foreach (var (after, until, index) in positions)
        {
            asked |= (after > 0 && after < log.HeadPosition) || (until < log.HeadPosition);
            long lo = OrdinalAt(log, after), hi = until == long.MaxValue ? long.MaxValue : OrdinalAt(log, until);
            if (hi > lo) segments.Add(new Segment(lo, hi, index));
        }
        computed = asked;
        return [.. segments];
    }

    /// <summary>What the user may see changed: everything computed from it is worked out anew.</summary>
    public void ForgetLogs(UserState user)
    {
        SaveLogs(user);
        user.Logs = null;
        store.ForgetUserLogs(user.PersonId);
    }

    /// <summary>Stores what was counted and not stored yet.</summary>
    public void SaveLogs(UserState user)
    {
        foreach (var log in user.Logs ?? [])
        {
            if (log.IsDirty) log.Save(store, user.PersonId);
        }
    }

    /// <summary>What a role is set to.</summary>
    public RoleRow? Role(string role) => roles.TryGetValue(role, out var known) ? known : roles[role] = store.FindRole(Id, role);

    /// <summary>A role's settings changed.</summary>
    public void Keep(RoleRow role)
    {
        roles[role.Role] = role;
        Stirred++;
    }

    /// <summary>Where the look-back of a newcomer to an address begins, in positions.</summary>
    public long NewcomerStart(string address, long lastLoss)
    {
        if (address.StartsWith("topic:", StringComparison.Ordinal)) return Head; // who follows a topic follows it from now on
        var lookBack = (address.StartsWith("role:", StringComparison.Ordinal) ? Role(address[5..])?.Newcomers : null) ?? options.Newcomers;
        if (lookBack <= TimeSpan.Zero) return Head;
        return Math.Max(lastLoss, PositionAt(StoredTime.From(clock.GetUtcNow() - lookBack)));
    }

    /// <summary>The newest entry up to a time. Many newcomers ask for much the same time: as long as the entry found
    /// was followed by a later
    /// one, the answer is the same.</summary>
    long PositionAt(StoredTime time)
    {
        if (found is { } last && time >= last.From && time < last.Before && last.Position >= Floor) return last.Position;
        long position = store.PositionAt(Id, time);
        if (position < Head && store.FindEntry(Id, position + 1) is { } next) found = (time, next.Time, position);
        return position;
    }

    (StoredTime From, StoredTime Before, long Position)? found;

    /// <summary>Does to users in memory what <see cref="ILedgerStore.ShiftStanding"/> does to those that are stored.</summary>
    public void ShiftStanding(long from, long by)
    {
        foreach (var user in users.Values)
        {
            if (user.Row.ValidFrom >= from) user.Row = user.Row with { ValidFrom = user.Row.ValidFrom + by };
            // Or roles would be told by no fresh token until that time comes.
            if (by < 0 && user.Row.RolesIssuedAt >= from) user.Row = user.Row with { RolesIssuedAt = user.Row.RolesIssuedAt + by };
        }
    }

    /// <summary>Puts a connected user into the lists of the logs it sees something of.</summary>
    public void JoinAll(UserState user)
    {
        EnsureLogs(user);
        connected.Add(user);
        foreach (var log in user.Logs!) Join(user, log);
        foreach (var address in user.Held)
        {
            if (address == "everyone") continue;
            if (!holders.TryGetValue(address, out var users)) holders[address] = users = [];
            if (users.Add(user)) user.HoldsHere.Add(address);
        }
        Count(user);
    }

    void Join(UserState user, UserLog log)
    {
        var member = new Member(user, log, IndexFor(user, log.Log.Audience), StateOf(log.Log));
        user.Members.Add(member);
    }

    /// <summary>The address by which the next notification reaches the user: the first held, unless an excepted role is
    /// held; −1: none.</summary>
    internal static int IndexFor(UserState user, Audience? audience)
    {
        if (audience is null) return 0;
        if (IsLeftOut(user, audience)) return -1;
        for (int i = 0; i < audience.Includes.Count; i++)
        {
            if (user.Holds(audience.Includes[i].ToString())) return i;
        }
        return -1;
    }

    /// <summary>Whether the user holds a role that the audience leaves out.</summary>
    internal static bool IsLeftOut(UserState user, Audience audience)
    {
        foreach (var excluded in audience.Excludes)
        {
            if (user.Holds(excluded.ToString())) return true;
        }
        return false;
    }

    /// <summary>Takes a user out of all lists.</summary>
    public void LeaveAll(UserState user)
    {
        Stirred++;
        residents.Add(user);
        connected.Remove(user);
        foreach (var member in user.Members)
        {
            member.Leave();
        }
        user.Members.Clear();
        foreach (var address in user.HoldsHere)
        {
            if (holders.TryGetValue(address, out var users) && users.Remove(user) && users.Count == 0) holders.Remove(address);
        }
        user.HoldsHere.Clear();
        CountOut(user);
    }

    void CountOut(UserState user)
    {
        foreach (var address in user.JoinedAs)
        {
            if (--CollectionsMarshal.GetValueRefOrAddDefault(connectedBy, address, out _) <= 0) connectedBy.Remove(address);
        }
        user.JoinedAs.Clear();
    }

    /// <summary>Counts the user as connected by each address held, as long as one of its sessions answers.</summary>
    public void Count(UserState user)
    {
        Stirred++;
        CountOut(user);
        if (!user.Sessions.Exists(s => !s.Silent)) return;
        user.JoinedAs.AddRange(user.Held);
        foreach (var address in user.JoinedAs) CollectionsMarshal.GetValueRefOrAddDefault(connectedBy, address, out _)++;
    }

    /// <summary>Users with a live session that answers who hold an address.</summary>
    public long ConnectedWith(string address) => connectedBy.GetValueOrDefault(address);

    /// <summary>Everybody connected who holds an address.</summary>
    public IReadOnlyCollection<UserState> ConnectedHolders(string address) =>
        address == "everyone" ? connected : holders.TryGetValue(address, out var users) ? users : [];

    /// <summary>Everybody connected.</summary>
    public IReadOnlyCollection<UserState> Connected => connected;

    /// <summary>Everybody with a session, also where a failure came between leaving the lists and joining them again.
    /// Looks at every user in memory.</summary>
    public IEnumerable<UserState> WithSessions => users.Values.Where(u => u.Sessions.Count > 0);

    /// <summary>A session says which subject its user is looking at; null: none any more.</summary>
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
