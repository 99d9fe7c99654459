using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;

namespace Rovett.Core.Ledger;

/// <summary>A part of a log that a user may see: ordinals in (<see cref="Lo"/>, <see cref="Hi"/>], reached by the
/// log's address number <see cref="AddressIndex"/>.</summary>
public readonly record struct Segment(long Lo, long Hi, int AddressIndex);

/// <summary>One log as one user sees it.</summary>
public sealed class UserLog(AddressLog log, Segment[] segments)
{
    static readonly OrdinalSet Nothing = new();

    /// <summary>The log.</summary>
    public AddressLog Log { get; } = log;

    /// <summary>What of it the user may see, lowest first.</summary>
    public Segment[] Segments { get; internal set; } = segments;

    /// <summary>The ordinals the user is left out of by name.</summary>
    public OrdinalSet Skips { get; internal set; } = Nothing;

    /// <summary>What the person saw.</summary>
    public OrdinalSet Read { get; internal set; } = Nothing;

    /// <summary>What any device of the user acknowledged.</summary>
    public OrdinalSet Received { get; internal set; } = Nothing;

    /// <summary>The unread notifications of one segment.</summary>
    public long UnreadIn(Segment s) => OrdinalSet.CountInNone(s.Lo, Math.Min(s.Hi, Log.Head), Read, Log.Dead, Skips);

    /// <summary>The unread notifications of the log.</summary>
    public long Unread()
    {
        long sum = 0;
        foreach (var s in Segments) sum += UnreadIn(s);
        return sum;
    }

    /// <summary>The segment an ordinal lies in, or null when the user may not see it.</summary>
    public Segment? SegmentOf(long ordinal)
    {
        if (Log.Dead.Contains(ordinal) || Skips.Contains(ordinal)) return null;
        foreach (var s in Segments)
        {
            if (ordinal > s.Lo && ordinal <= s.Hi) return s;
        }
        return null;
    }

    internal void LoadMarks(OrdinalSet skips, OrdinalSet read, OrdinalSet received) => (Skips, Read, Received) = (skips, read, received);
}

/// <summary>A connected user in a log's list: found and removed in one step.</summary>
internal sealed class Member(UserState user, AddressLog log, int addressIndex)
{
    public readonly UserState User = user;
    public readonly AddressLog Log = log;
    public readonly int AddressIndex = addressIndex;
    public int Index;
}

/// <summary>A user as the ledger holds one in memory. Owned by the ledger's thread.</summary>
public sealed class UserState(int space, PersonRow row)
{
    /// <summary>The space.</summary>
    public int Space { get; } = space;
    /// <summary>The store's number of the user.</summary>
    public long PersonId { get; } = row.Id;
    /// <summary>The id.</summary>
    public UserId Id { get; } = new(row.User);
    /// <summary>When the user first showed a credential; null for somebody only ever written to.</summary>
    public StoredTime? Seen { get; internal set; } = row.Seen;
    /// <summary>The number of the user's own changes.</summary>
    public long Rev { get; internal set; } = row.Rev;
    /// <summary>The newest <c>iat</c> accepted, in microseconds.</summary>
    public long RolesIssuedAt { get; internal set; } = row.RolesIssuedAt;
    /// <summary>Every interval of every role, oldest first.</summary>
    public List<Membership> Memberships { get; } = [];
    /// <summary>The logs the user sees something of; null until first needed.</summary>
    internal List<UserLog>? Logs { get; set; }
    /// <summary>The live sessions.</summary>
    internal List<ISessionPort> Sessions { get; } = [];
    /// <summary>The connected user's places in the logs' lists.</summary>
    internal List<Member> Members { get; } = [];
    /// <summary>The addresses under which the connected user is counted.</summary>
    internal List<string> JoinedAs { get; } = [];
    /// <summary>The unread total, kept while the user is connected.</summary>
    internal long Unread { get; set; }
    /// <summary>The stored time up to which <see cref="Unread"/> speaks.</summary>
    internal StoredTime AsOf { get; set; }
    /// <summary>The position of a notification whose audience log passes this user by.</summary>
    internal long SkippedAt { get; set; }
    /// <summary>Counts up whenever what the user may see changes, so that a page read under an older plan is dropped.</summary>
    internal int PlanVersion { get; set; }
    /// <summary>Attachments written in this commit and not carried out yet.</summary>
    internal int AttachesUnderWay { get; set; }
    /// <summary>How far any device of the user was written to.</summary>
    public DispatchMark Dispatched { get; } = new();

    /// <summary>The addresses held now, beside the user's own.</summary>
    public IEnumerable<string> Held => Memberships.Where(m => m.Until is null).Select(m => m.Address);

    /// <summary>Whether the user holds an address now.</summary>
    public bool Holds(string address) => Memberships.Exists(m => m.Until is null && m.Address == address);

    /// <summary>The unread total, counted anew: one look-up per log.</summary>
    internal long CountUnread()
    {
        long sum = 0;
        foreach (var log in Logs!) sum += log.Unread();
        return sum;
    }

    /// <summary>The parts of an audience's log that the user may see, as intervals of positions (after, until].</summary>
    /// <remarks>Right: only roles held now count, each from the start of its present interval. Interval: what was sent
    /// while the user held an excepted role stays away for good.</remarks>
    internal List<(long After, long Until, int AddressIndex)> PositionsOf(Audience audience)
    {
        var result = new List<(long, long, int)>();
        long covered = long.MaxValue;
        for (int i = 0; i < audience.Includes.Count; i++)
        {
            var name = audience.Includes[i].ToString();
            var open = Memberships.Find(m => m.Until is null && m.Address == name);
            if (open is null || open.After >= covered) continue;
            result.Add((open.After, covered, i));
            covered = open.After;
        }
        foreach (var excluded in audience.Excludes)
        {
            var name = excluded.ToString();
            foreach (var m in Memberships)
            {
                if (m.Address == name) result = Without(result, m.After, m.Until ?? long.MaxValue);
            }
        }
        result.Sort();
        return result;
    }

    static List<(long, long, int)> Without(List<(long After, long Until, int Index)> from, long after, long until)
    {
        var rest = new List<(long, long, int)>();
        foreach (var (a, u, i) in from)
        {
            if (Math.Min(u, after) > a) rest.Add((a, Math.Min(u, after), i));
            if (u > Math.Max(a, until)) rest.Add((Math.Max(a, until), u, i));
        }
        return rest;
    }
}
