using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;
using Rovett.Core.Nodes;
using Rovett.Core.Notifications;
using Rovett.Core.Presence;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>One space in the ledger's memory: logs and users are loaded when first needed, nothing
/// is read at start. Owned by the ledger's thread.</summary>
internal sealed partial class SpaceState
{
    readonly ILedgerStore store;
    readonly OptionsInForce options;
    readonly ServiceClock clock;
    readonly Residents residents;
    readonly Dictionary<string, AddressLog> logs = [];
    readonly Dictionary<long, LogState> logsById = [];
    readonly Dictionary<string, List<AddressLog>> audiencesOf = [];
    readonly Dictionary<string, UserState> users = [];
    readonly Dictionary<long, UserState> usersById = [];
    readonly Dictionary<string, RoleRow?> roles = [];
    readonly Dictionary<string, long> members = [];

    public SpaceState(SpaceRow row, ILedgerStore store, OptionsInForce options, ServiceClock clock, RecentEntries recent,
        Residents residents, SpaceAgenda agenda, NodePort port)
    {
        Port = port;
        Agenda = agenda;
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
        UserLogs = new UserLogs(this, store);
        Connected = new ConnectedUsers(this, residents);
        Subscriptions = new Subscriptions(this, store);
        Topics = new TopicRules(this, store);
        Events = new EventRules(this, store);
        Presence = new PresenceBoards(new PresenceSource(this));
        agenda.Watches(Presence);
        HasTombstones = store.HasTombstones(row.Id);
    }

    /// <summary>Whether somebody was erased whose tokens may still be valid.</summary>
    public bool HasTombstones { get; set; }

    /// <summary>The hash of an id under this space's key.</summary>
    public byte[] HashOf(string user) => Tombstones.Hash(Row.Key, user);

    /// <summary>The time before which credentials of an unknown id are refused; 0 unless a person of that id was erased.</summary>
    public long TombstoneOf(string user) => HasTombstones ? store.FindTombstone(Id, HashOf(user)) ?? 0 : 0;

    /// <summary>Presence.</summary>
    public PresenceBoards Presence { get; }

    /// <summary>Policies or a role's grant changed, and not all connected users were looked at since.</summary>
    public bool IsChangingRights { get; set; }

    /// <summary>Counts up whenever presence or rights may have changed.</summary>
    public long Stirred { get; set; }

    /// <summary>The ledger's attempt that last used this space.</summary>
    internal long TouchedBy { get; set; }

    /// <summary>The number of the next message between users on a topic.</summary>
    internal long NextSaid { get; set; }

    /// <summary>The users' views of the logs.</summary>
    public UserLogs UserLogs { get; }

    /// <summary>The connected users.</summary>
    public ConnectedUsers Connected { get; }

    /// <summary>The subscriptions.</summary>
    public Subscriptions Subscriptions { get; }

    /// <summary>Rights on topics.</summary>
    public TopicRules Topics { get; }

    /// <summary>Deadlines that everybody must meet and that are being looked at, by position and number.</summary>
    public Dictionary<(long Position, int Number), RollCall> RollCalls { get; } = [];

    /// <summary>Rules for events.</summary>
    public EventRules Events { get; }

    public SpaceRow Row { get; }
    public int Id => Row.Id;
    public CursorSeal Cursors { get; }
    public RecentEntries Recent { get; }

    /// <summary>Set while nothing may be written: computed values are stored later.</summary>
    public bool OnlyReads { get; set; }

    /// <summary>The newest position drawn.</summary>
    public long Head { get; private set; }

    /// <summary>Entries up to this position are no longer stored.</summary>
    public long Floor { get; set; }

    /// <summary>The newest stored time drawn.</summary>
    public StoredTime LastTime { get; private set; }

    /// <summary>The number of the newest receipt.</summary>
    public long LastReceipt { get; set; }

    /// <summary>Draws the next position and its time, later than every one before whatever the clock does.</summary>
    public (Position Position, StoredTime Time) Draw()
    {
        LastTime = new StoredTime(Math.Max(StoredTime.From(clock.GetUtcNow()).Micros, LastTime.Micros + 1));
        Head++;
        Agenda.Stores(LastTime, Head - Floor);
        return (new Position(Head), LastTime);
    }

    /// <summary>Where what concerns sessions goes.</summary>
    public NodePort Port { get; }

    /// <summary>What there is to do by itself.</summary>
    public SpaceAgenda Agenda { get; }

    /// <summary>Adds work that is due at a time.</summary>
    public void AddDue(DueRow due)
    {
        store.AddDue(Id, due);
        Agenda.Adds(due.At);
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
                    $"{address} is already part of {Draft.MaxAudiencesPerAddress} combinations of 'to' and 'except'.",
                    "Use fewer combinations: create a role for a group that is often addressed together.").ToException();
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
        // The log of an erased person keeps a key that is not an address.
        Address[] addresses = audience is not null ? [.. audience.Includes] : ErasedName.Is(row.Key)
            ? []
            : [Address.OfStored(row.Key)];
        var log = new AddressLog(row.Id, audience, addresses, store.Blocks(0, row.Id, MarkKind.Dead));
        // Changes before the floor are no longer stored; totals from before it are counted anew.
        log.Load(row.Trimmed > 0 ? row with { ChangedAt = Math.Max(row.ChangedAt, Floor) } : row);
        logs[row.Key] = log;
        logsById[row.Id] = new LogState(log, row.Key);
        return log;
    }

    /// <summary>Gives a log a key that is not an address.</summary>
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
        var added = new UserLog(log, UserLogs.SegmentsOf(log, positions), null, store, user.PersonId);
        user.Logs.Add(added);
        if (user.Sessions.Count > 0) Connected.Enlist(user, added);
    }

    /// <summary>The taken ordinals of a log.</summary>
    public HashSet<long> TakenOf(AddressLog log) => StateOf(log).Taken ??= [.. store.TakenOf(log.Id)];

    /// <summary>How many logs, addresses, roles and topics are in memory.</summary>
    public int Loose => logs.Count + audiencesOf.Count + roles.Count + members.Count + Topics.Known;

    /// <summary>Drops logs that no user in memory sees, and caches.
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
        // An address is kept with all its audiences or dropped with all.
        foreach (var (address, list) in audiencesOf.ToList())
        {
            if (list.Count == 0 || !list.TrueForAll(needed.Contains)) audiencesOf.Remove(address);
        }
        roles.Clear();
        members.Clear();
        Topics.ForgetKnown();
    }

    /// <summary>Shrinks tables from which most was dropped.</summary>
    public void Compact()
    {
        Compact(users);
        Compact(usersById);
        Compact(logs);
        Compact(logsById);
    }

    static void Compact<TKey, TValue>(Dictionary<TKey, TValue> all) where TKey : notnull
    {
        const int Small = 64, Part = 4;
        if (all.Capacity > Small && all.Count < all.Capacity / Part) all.TrimExcess(all.Count * 2);
    }

    /// <summary>The ordinal of the newest notification of a log up to a position.</summary>
    public long OrdinalAt(AddressLog log, long position) =>
        position <= 0 ? 0 : position >= log.HeadPosition ? log.Head : Math.Max(log.Trimmed, store.OrdinalAt(log.Id, position));

    /// <summary>A role's settings.</summary>
    public RoleRow? Role(string role) => roles.TryGetValue(role, out var known) ? known : roles[role] = store.FindRole(Id, role);

    /// <summary>How many users hold an address; −1: nobody ever held it.</summary>
    public long MembersOf(string address) =>
        members.TryGetValue(address, out long known) ? known : members[address] = store.MembersOf(Id, address);

    /// <summary>Another user holds an address, or one no longer does.</summary>
    /// <param name="address">The address.</param>
    /// <param name="difference">1 or −1.</param>
    public void CountMember(string address, int difference)
    {
        if (members.TryGetValue(address, out long known)) members[address] = Math.Max(known, 0) + difference;
    }

    /// <summary>A role's settings changed.</summary>
    public void Keep(RoleRow role)
    {
        roles[role.Role] = role;
        Stirred++;
    }

    /// <summary>The position from which a new holder of an address sees notifications.</summary>
    public long NewcomerStart(string address, long lastLoss)
    {
        if (address.StartsWith("topic:", StringComparison.Ordinal)) return Head; // who follows a topic follows it from now on
        var lookBack = (address.StartsWith("role:", StringComparison.Ordinal) ? Role(address[5..])?.Newcomers
            : null) ?? options.Now.Newcomers;
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
}
