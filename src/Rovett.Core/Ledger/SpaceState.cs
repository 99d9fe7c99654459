using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Marks;

namespace Rovett.Core.Ledger;

/// <summary>One space as the ledger holds it in memory: logs and users are loaded when they are first needed, nothing
/// is read at start. Owned by the ledger's thread.</summary>
internal sealed class SpaceState
{
    readonly ILedgerStore store;
    readonly LedgerOptions options;
    readonly TimeProvider clock;
    readonly Dictionary<string, AddressLog> logs = [];
    readonly Dictionary<string, List<AddressLog>> audiencesOf = [];
    readonly Dictionary<string, UserState> users = [];
    readonly Dictionary<string, long> connectedBy = [];

    public SpaceState(SpaceRow row, ILedgerStore store, LedgerOptions options, TimeProvider clock, RecentNotifications recent)
    {
        Row = row;
        this.store = store;
        this.options = options;
        this.clock = clock;
        Head = AppliedHead = row.Head;
        LastTime = row.LastTime;
        Cursors = new CursorSeal(row.Key, store.Epoch, row.Name, "cursor");
        Recent = recent;
    }

    public SpaceRow Row { get; }
    public int Id => Row.Id;
    public CursorSeal Cursors { get; }
    public RecentNotifications Recent { get; }

    /// <summary>The newest position drawn.</summary>
    public long Head { get; private set; }

    /// <summary>The newest stored time drawn.</summary>
    public StoredTime LastTime { get; private set; }

    /// <summary>The newest position whose consequences are carried out in memory.</summary>
    public long AppliedHead { get; set; }

    /// <summary>Draws the next position and its time, later than every one before whatever the clock does.</summary>
    public (Position Position, StoredTime Time) Draw()
    {
        LastTime = new StoredTime(Math.Max(StoredTime.From(clock.GetUtcNow()).Micros, LastTime.Micros + 1));
        return (new Position(++Head), LastTime);
    }

    /// <summary>The log of one person.</summary>
    public AddressLog PersonalLog(string user)
    {
        var address = new Address(AddressKind.User, user);
        return Log(address.ToString(), null, [address]);
    }

    /// <summary>The log of an audience, made on its first send.</summary>
    public AddressLog AudienceLog(Audience audience) => Log(audience.Key, audience, audience.Includes);

    /// <summary>The audience logs that include an address.</summary>
    public List<AddressLog> AudiencesOf(string address)
    {
        if (audiencesOf.TryGetValue(address, out var known)) return known;
        if (Address.TryParse(address, out var parsed) is { } wrong) throw new FormatException(wrong);
        var list = new List<AddressLog>();
        foreach (var row in store.AudiencesOf(Id, parsed))
        {
            if (!logs.TryGetValue(row.Key, out var log)) log = Keep(row, Audience.Parse(row.Key), null);
            list.Add(log);
        }
        return audiencesOf[address] = list;
    }

    AddressLog Log(string key, Audience? audience, IReadOnlyList<Address> addresses)
    {
        if (logs.TryGetValue(key, out var log)) return log;
        if (store.FindLog(Id, key) is { } row) return Keep(row, audience, addresses);
        // A new audience joins the lists already in memory; those not in memory will find it in the store.
        foreach (var address in audience is null ? [] : addresses)
        {
            if (AudiencesOf(address.ToString()).Count >= Draft.MaxAudiencesPerAddress)
            {
                throw new Problem(422, "too-many-audiences", "Too many combinations of addresses",
                    $"{address} already stands in {Draft.MaxAudiencesPerAddress} different combinations of 'to' and 'except'.",
                    "Use fewer distinct combinations: a role of its own for a group that is often addressed together.").Throw();
            }
        }
        log = Keep(store.AddLog(Id, key, audience is null ? [] : addresses), audience, addresses);
        if (audience is not null)
        {
            foreach (var address in addresses)
            {
                if (audiencesOf.TryGetValue(address.ToString(), out var list)) list.Add(log);
            }
            foreach (var user in users.Values) AddLogTo(user, log);
        }
        return log;
    }

    AddressLog Keep(LogRow row, Audience? audience, IReadOnlyList<Address>? addresses)
    {
        var log = new AddressLog(row.Id, audience, [.. addresses ?? audience!.Includes]);
        log.Load(row.Head, row.HeadPosition);
        logs[row.Key] = log;
        return log;
    }

    void AddLogTo(UserState user, AddressLog log)
    {
        if (user.Logs is null || user.PositionsOf(log.Audience!) is not { Count: > 0 } positions) return;
        user.Logs.Add(Load(user, log, positions));
        if (user.Sessions.Count > 0) Join(user, log);
    }

    /// <summary>A user, or null when the store knows none by that id.</summary>
    public UserState? Find(string user)
    {
        if (users.TryGetValue(user, out var known)) return known;
        return store.FindPerson(Id, user) is { } row ? KeepUser(row) : null;
    }

    /// <summary>A user, made when unknown.</summary>
    public UserState FindOrAdd(string user, StoredTime? seen) => Find(user) ?? KeepUser(store.AddPerson(Id, user, seen));

    UserState KeepUser(PersonRow row)
    {
        var user = new UserState(Id, row);
        user.Memberships.AddRange(store.Memberships(row.Id));
        users[row.User] = user;
        return user;
    }

    /// <summary>Lets users go that nobody needs now. Between batches only, so that no command holds one of them.</summary>
    public void DropIdleUsers()
    {
        if (users.Count < 100_000) return;
        foreach (var (id, user) in users)
        {
            if (user.Sessions.Count == 0) users.Remove(id);
        }
    }

    /// <summary>Loads the user's logs and marks, at a cost of the number of the user's logs.</summary>
    public void EnsureLogs(UserState user)
    {
        if (user.Logs is not null) return;
        var list = new List<UserLog>();
        var own = PersonalLog(user.Id.Value);
        list.Add(Load(user, own, [(0, long.MaxValue, 0)]));
        var seen = new HashSet<long>();
        foreach (var address in user.Held)
        {
            foreach (var log in AudiencesOf(address))
            {
                if (seen.Add(log.Id) && user.PositionsOf(log.Audience!) is { Count: > 0 } positions) list.Add(Load(user, log, positions));
            }
        }
        user.Logs = list;
    }

    UserLog Load(UserState user, AddressLog log, List<(long After, long Until, int AddressIndex)> positions)
    {
        var found = new UserLog(log, ToSegments(log, positions));
        found.LoadMarks(
            log.Audience is null ? new OrdinalSet() : store.Skips(user.PersonId, log.Id),
            store.LoadMarks(user.PersonId, log.Id, MarkKind.Read),
            store.LoadMarks(user.PersonId, log.Id, MarkKind.Received));
        return found;
    }

    Segment[] ToSegments(AddressLog log, List<(long After, long Until, int AddressIndex)> positions)
    {
        var segments = new List<Segment>();
        foreach (var (after, until, index) in positions)
        {
            long lo = after <= 0 ? 0 : after >= log.HeadPosition ? log.Head : store.OrdinalAt(log.Id, after);
            long hi = until == long.MaxValue ? long.MaxValue : until >= log.HeadPosition ? log.Head : store.OrdinalAt(log.Id, until);
            if (hi > lo) segments.Add(new Segment(lo, hi, index));
        }
        return [.. segments];
    }

    /// <summary>Forgets what was computed of a user's logs; the next need computes them anew.</summary>
    public static void ForgetLogs(UserState user) => user.Logs = null;

    /// <summary>Where the look-back of a newcomer begins, in positions.</summary>
    public long NewcomerStart(long lastLoss)
    {
        if (options.Newcomers <= TimeSpan.Zero) return Head;
        var from = new StoredTime(StoredTime.From(clock.GetUtcNow() - options.Newcomers).Micros);
        return Math.Max(lastLoss, store.PositionAt(Id, from));
    }

    /// <summary>Puts a connected user into the lists of the logs that reach it.</summary>
    public void JoinAll(UserState user)
    {
        EnsureLogs(user);
        foreach (var log in user.Logs!) Join(user, log.Log);
        user.JoinedAs.AddRange(user.Held);
        foreach (var address in user.JoinedAs) connectedBy[address] = connectedBy.GetValueOrDefault(address) + 1;
    }

    static void Join(UserState user, AddressLog log)
    {
        int index = 0;
        if (log.Audience is { } audience)
        {
            // The next notification reaches the user by the first address held, unless an excepted role is held.
            foreach (var excluded in audience.Excludes)
            {
                if (user.Holds(excluded.ToString())) return;
            }
            index = -1;
            for (int i = 0; i < audience.Includes.Count && index < 0; i++)
            {
                if (user.Holds(audience.Includes[i].ToString())) index = i;
            }
            if (index < 0) return;
        }
        var member = new Member(user, log, index) { Index = log.Members.Count };
        log.Members.Add(member);
        user.Members.Add(member);
    }

    /// <summary>Takes a user out of all lists.</summary>
    public void LeaveAll(UserState user)
    {
        foreach (var member in user.Members)
        {
            var list = member.Log.Members;
            var last = list[^1];
            list[member.Index] = last;
            last.Index = member.Index;
            list.RemoveAt(list.Count - 1);
        }
        user.Members.Clear();
        foreach (var address in user.JoinedAs) connectedBy[address]--;
        user.JoinedAs.Clear();
    }

    /// <summary>Users with a live session who hold an address.</summary>
    public long ConnectedWith(string address) => connectedBy.GetValueOrDefault(address);

    /// <summary>Everybody connected.</summary>
    public IEnumerable<UserState> Connected => users.Values.Where(u => u.Sessions.Count > 0);
}
