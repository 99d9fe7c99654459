using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Nodes;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>A user in the ledger's memory. Owned by the ledger's thread.</summary>
public sealed class UserState(int space, PersonRow row)
{
    /// <summary>The space.</summary>
    public int Space { get; } = space;
    /// <summary>The store's number of the user.</summary>
    public long PersonId { get; } = row.Id;
    /// <summary>The id.</summary>
    public UserId Id { get; } = new(row.User);
    /// <summary>The space, as the ledger holds it.</summary>
    internal SpaceState Home { get; init; } = null!;
    /// <summary>The stored row.</summary>
    internal PersonRow Row { get; set; } = row;
    /// <summary>The number of the user's own changes.</summary>
    public long Rev => Row.Rev;
    /// <summary>True once a credential was shown or the directory named the user.</summary>
    public bool IsKnown => Row.Seen is not null;
    /// <summary>Every interval of every role, oldest first.</summary>
    public List<Membership> Memberships { get; } = [];
    /// <summary>The channels of a session that has subscribed to nothing; null until first needed after a change.</summary>
    internal ChannelList? Channels { get; set; }
    /// <summary>The memberships were held against the roles of the row, since the user is in memory.</summary>
    internal bool RolesAgree { get; set; }
    /// <summary>Every mute, oldest first.</summary>
    internal List<MuteRow> Mutes { get; } = [];
    /// <summary>When the devices were last told of the choices, in due time.</summary>
    internal long ChoicesToldAt { get; set; }
    /// <summary>The logs the user sees something of; null until first needed.</summary>
    internal List<UserLog>? Logs { get; set; }
    /// <summary>The topics followed, each with the position from which on; held only as long as policies and grants allow it.</summary>
    internal ref LateMap<long> Follows => ref follows;
    LateMap<long> follows;
    /// <summary>Listed as a candidate to drop from memory.</summary>
    internal bool IsQueued { get; set; }
    /// <summary>Used since it was last considered for dropping.</summary>
    internal bool WasUsed { get; set; }
    /// <summary>The live sessions.</summary>
    internal List<SessionPlace> Sessions { get; } = new(1);
    /// <summary>Whether the user follows a topic, or one of the sessions has subscribed to one or watches presence.</summary>
    internal bool UsesTopics => Follows.Count > 0 || Sessions.Exists(static s => s.Topics.Count > 0 || s.Watched.Count > 0);
    /// <summary>The connected user's places in the logs' lists.</summary>
    internal List<Member> Members { get; } = [];
    /// <summary>The addresses under which the connected user is counted.</summary>
    internal string[] JoinedAs { get; set; } = [];
    /// <summary>The addresses under which the connected user is found.</summary>
    internal string[] HoldsHere { get; set; } = [];
    /// <summary>The user as the node knows it while connected.</summary>
    internal NodeUser Node { get; } = new();
    /// <summary>The position of a notification whose audience log passes this user by.</summary>
    internal long SkippedAt { get; set; }
    /// <summary>Counts up whenever what the user may see changes, so that a page read under an older plan is dropped.</summary>
    internal int PlanVersion { get; set; }
    /// <summary>How far any device of the user was written to.</summary>
    public DispatchMark Dispatched { get; } = new();
    /// <summary>How far each device of the user was written to, as far as this process knows.</summary>
    internal DeviceMarks Devices { get; } = new();

    /// <summary>The addresses held now, beside the user's own.</summary>
    public IEnumerable<string> Held => Memberships.Where(m => m.Until is null).Select(m => m.Address);

    /// <summary>Whether the user holds an address now.</summary>
    public bool Holds(string address)
    {
        foreach (var m in Memberships)
        {
            if (m.Until is null && m.Address == address) return true;
        }
        return false;
    }

    /// <summary>The address by which the next notification reaches the user: the first held, unless an excepted role is
    /// held; −1: none.</summary>
    internal int AddressIndexFor(Audience? audience)
    {
        if (audience is null) return 0;
        if (IsLeftOutOf(audience)) return -1;
        for (int i = 0; i < audience.Includes.Count; i++)
        {
            if (Holds(audience.Includes[i].ToString())) return i;
        }
        return -1;
    }

    /// <summary>Whether the user holds a role that the audience leaves out.</summary>
    internal bool IsLeftOutOf(Audience audience)
    {
        foreach (var excluded in audience.Excludes)
        {
            if (Holds(excluded.ToString())) return true;
        }
        return false;
    }

    /// <summary>Whether the user has muted now what has such traits.</summary>
    internal bool HasMuted(NotificationTraits traits)
    {
        if (traits.IsAlways) return false;
        foreach (var mute in Mutes)
        {
            if (mute.Until is null && mute.Text == (mute.IsType ? traits.Type : traits.Subject)) return true;
        }
        return false;
    }

    /// <summary>The unread total, counted anew: a few look-ups per log.</summary>
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
