using Rovett.Core.Addresses;
using Rovett.Core.Policies;

namespace Rovett.Simulator;

/// <summary>What everybody may see, slow and obviously right: every question is answered by looking at everything.</summary>
public sealed partial class Reference(TimeSpan newcomers)
{
    public enum End { None, Withdrawn, Replaced, Expired }

    public sealed class Sent
    {
        public required int Number { get; init; }
        public required long Position { get; init; }
        public required IReadOnlyList<Address> To { get; set; }
        public required IReadOnlyList<Address> Except { get; set; }
        /// <summary>People who had read, or received, it when they were erased: what happened stays counted.</summary>
        public int ErasedRead { get; set; }
        public int ErasedReceived { get; set; }
        public required string Type { get; init; }
        public string? Subject { get; init; }
        public string? Slot { get; init; }
        public long? Expires { get; init; }
        public TimeSpan? TakeFor { get; init; }
        public End Ended { get; set; }
        public string? TakenBy { get; set; }
        public long? TakenUntil { get; set; }
        public Sent Clone() => (Sent)MemberwiseClone();
    }

    public sealed record Held(string Address, long After, long? Until);

    public sealed record Muting(bool IsType, string Text, long After, long? Until);

    public sealed class Person
    {
        public List<Held> Intervals { get; init; } = [];
        public List<Muting> Mutes { get; init; } = [];
        public HashSet<string> Follows { get; init; } = [];
        /// <summary>The newest entry that changed what the person holds.</summary>
        public long ChangedAt { get; set; }
        public long? IssuedAt { get; set; }
        public bool Seen { get; set; }
        /// <summary>Credentials made before this do not hold.</summary>
        public long ValidFrom { get; set; }
        /// <summary>Credentials that were taken: each one's <c>iat</c>, with whether it lay ahead of the time then.</summary>
        public Dictionary<long, bool> Shown { get; init; } = [];
        /// <summary>Credentials that ended with a sign-out; those that lay ahead are refused by their name.</summary>
        public HashSet<long> Ended { get; init; } = [];
        public HashSet<long> Dead { get; init; } = [];
        public bool Blocked { get; set; }
        public HashSet<int> Read { get; init; } = [];
        public HashSet<int> Received { get; init; } = [];
        /// <summary>Dead ones within a range that was marked: an ack that comes later says nothing new.</summary>
        public HashSet<int> Covered { get; init; } = [];
        public IEnumerable<string> Holds => Intervals.Where(h => h.Until is null).Select(h => h.Address);
        public Person Clone() =>
            new()
            {
                Intervals = [.. Intervals],
                Mutes = [.. Mutes],
                Follows = [.. Follows],
                ChangedAt = ChangedAt,
                IssuedAt = IssuedAt,
                Seen = Seen,
                ValidFrom = ValidFrom,
                Shown = new(Shown),
                Ended = [.. Ended],
                Dead = [.. Dead],
                Blocked = Blocked,
                Read = [.. Read],
                Received = [.. Received],
                Covered = [.. Covered]
            };
    }

    readonly Dictionary<string, Person> persons = [];
    readonly List<long> times = []; // of the entries, in microseconds

    public List<Sent> All { get; } = [];
    public long Head => times.Count;
    public long Floor { get; private set; }

    public Reference Clone()
    {
        var copy = new Reference(newcomers) { Floor = Floor, DueNow = DueNow, ErasedAt = new(ErasedAt) };
        foreach (var (name, person) in persons) copy.persons[name] = person.Clone();
        copy.times.AddRange(times);
        copy.All.AddRange(All.Select(s => s.Clone()));
        copy.Rules = Rules;
        copy.Grants.AddRange(Grants);
        copy.Gatherings.AddRange(Gatherings.Select(g => g.Clone()));
        foreach (var (key, since) in maySince) copy.maySince[key] = since;
        return copy;
    }

    public Person Of(string user) => persons.TryGetValue(user, out var p) ? p : persons[user] = new Person();

    public bool Exists(string user) => persons.ContainsKey(user);

    /// <summary>Called before each entry but the first of a command: what was so until then, devices may have been told.</summary>
    public Action? BeforeEntry { get; set; }

    long Draw(long now)
    {
        BeforeEntry?.Invoke();
        times.Add(Math.Max(now, times.Count == 0 ? now : times[^1] + 1));
        return Head;
    }

    /// <summary>The due time: true time passed, whatever the machine's clock says.</summary>
    public long DueNow { get; set; }

    /// <summary>A step of the clock is believed: sign-outs that were noted since the time began that is not believed
    /// any more move along.</summary>
    public void Believe(long began, long now, long by)
    {
        foreach (var person in persons.Values)
        {
            if (person.ValidFrom >= (by > 0 ? began : now + by + 2_000_000)) person.ValidFrom += by;
            if (by < 0 && person.IssuedAt >= now + by + 2_000_000) person.IssuedAt += by;
        }
    }

    /// <summary>Since when each user holds the right to subscribe to each topic.</summary>
    readonly Dictionary<(string User, string Topic), long> maySince = [];

    /// <summary>Notes whose right to subscribe began or ended with the newest entries.</summary>
    public void NoteRights(IEnumerable<string> topics)
    {
        foreach (var topic in topics)
        {
            foreach (var user in persons.Keys)
            {
                if (!May(user, topic, TopicRights.Subscribe)) maySince.Remove((user, topic));
                else maySince.TryAdd((user, topic), Head);
            }
        }
    }

    /// <summary>From which position on a subscription may be caught up.</summary>
    public long MaySince(string user, string topic) => maySince.GetValueOrDefault((user, topic));

    /// <summary>The service started with a clock that is behind what it was.</summary>
    public void CapStanding(long now)
    {
        foreach (var person in persons.Values)
        {
            if (person.ValidFrom > now + 2_000_000) person.ValidFrom = now;
            if (person.IssuedAt > now + 2_000_000) person.IssuedAt = now;
        }
    }

    public Sent Send(long now, IReadOnlyList<Address> to, IReadOnlyList<Address> except, string type, string? subject, string? slot,
        TimeSpan? ttl, TimeSpan? takeFor, IEnumerable<string> attending)
    {
        if (slot is not null
            && All.LastOrDefault(s => s.Slot == slot && s.To.ToHashSet().SetEquals(to) && s.Except.ToHashSet().SetEquals(except))
            is { Ended: End.None } old && old.Position > Floor)
        {
            Draw(now);
            Finish(old, End.Replaced);
        }
        long position = Draw(now);
        var sent = new Sent
        {
            Number = All.Count,
            Position = position,
            To = to,
            Except = except,
            Type = type,
            Subject = subject,
            Slot = slot,
            Expires = ttl is { } t ? DueNow + (long)t.TotalMicroseconds : null,
            TakeFor = takeFor
        };
        All.Add(sent);
        foreach (var address in to.Concat(except).Where(a => a.Kind == AddressKind.User)) Of(address.Name);
        foreach (var user in attending)
        {
            if (Reaches(user, sent) is null || IsMuted(user, sent)) continue;
            Of(user).Read.Add(sent.Number);
            Of(user).Received.Add(sent.Number);
        }
        return sent;
    }

    /// <summary>Whether a credential of a user's holds.</summary>
    public bool Holds(string user, long issuedAt) =>
        !persons.TryGetValue(user, out var person) || (!person.Blocked && issuedAt >= person.ValidFrom && !person.Dead.Contains(issuedAt));

    /// <summary>Whether a session goes on that began with a credential. A believed step of the clock ends none.</summary>
    public bool IsInForce(string user, long issuedAt) =>
        !persons.TryGetValue(user, out var person) || (!person.Blocked && !person.Ended.Contains(issuedAt));

    public void SignOut(long now, string user, long validFrom)
    {
        var person = Of(user);
        person.ValidFrom = Math.Max(person.ValidFrom, validFrom);
        person.Ended.UnionWith(person.Shown.Keys);
        person.Dead.UnionWith(person.Shown.Where(s => s.Value && s.Key >= person.ValidFrom).Select(s => s.Key));
        Draw(now);
    }

    /// <summary>Where people were erased last.</summary>
    public Dictionary<string, long> ErasedAt { get; init; } = [];

    /// <summary>Nothing is left of a person but a name that says nothing; credentials that were made before do not hold
    /// for another of the same id.</summary>
    public void Erase(long now, string user, long position, long validFrom, string pseudonym)
    {
        var person = Of(user);
        foreach (var taken in All.Where(s => s.TakenBy == user && s.Position > Floor)) Release(now, taken);
        foreach (var sent in All)
        {
            if (sent.TakenBy == user) sent.TakenBy = null;
            if (person.Read.Contains(sent.Number)) sent.ErasedRead++;
            if (person.Received.Contains(sent.Number)) sent.ErasedReceived++;
            sent.To = Renamed(sent.To);
            sent.Except = Renamed(sent.Except);
        }
        Grants.RemoveAll(g => g.User == user);
        persons[user] = new Person { ValidFrom = validFrom };
        foreach (var key in maySince.Keys.Where(k => k.User == user).ToList()) maySince.Remove(key);
        while (Head < position) Draw(now);
        ErasedAt[user] = position;

        IReadOnlyList<Address> Renamed(IReadOnlyList<Address> addresses) =>
            [.. addresses.Select(a => a.Kind == AddressKind.User && a.Name == user ? Address.User(new UserId(pseudonym)) : a)];
    }

    public void Block(long now, string user, bool blocked)
    {
        if (Of(user).Blocked == blocked) return;
        Of(user).Blocked = blocked;
        Draw(now);
    }

    static void Finish(Sent sent, End end)
    {
        sent.Ended = end;
        sent.TakenBy = null;
    }

    public bool Withdraw(long now, Sent sent)
    {
        if (sent.Ended != End.None || sent.Position <= Floor) return false;
        Draw(now);
        Finish(sent, End.Withdrawn);
        return true;
    }

    /// <summary>Expiries and ends of takings, in the order in which they were due.</summary>
    public void Due(long now)
    {
        long time = DueNow;
        var due = All.Where(s => s.Ended == End.None && s.Position > Floor)
            .SelectMany(
            s => new (long? At, int Kind, long Position, object? Sent)[]
            { (s.Expires, 1, s.Position, s), (s.TakenBy is null ? null : s.TakenUntil, 2, s.Position, s) })
            .Concat(Grants.Where(g => !g.Ended).Select(g => (At: g.Until, Kind: 4, Position: g.Number, Sent: (object?)null)))
            .Concat(Gatherings.Select((g, i) => (At: (long?)g.Closes, Kind: 6, Position: (long)i, Sent: (object?)g)))
            .Where(d => d.At <= time).OrderBy(d => d.At).ThenBy(d => d.Kind).ThenBy(d => d.Position).ToList();
        foreach (var (_, kind, number, what) in due)
        {
            if (what is Gathering gathering)
            {
                CloseGathering(now, gathering);
                continue;
            }
            if (what is not Sent sent)
            {
                EndGrant(now, number);
                continue;
            }
            if (sent.Ended != End.None || (kind == 2 && sent.TakenBy is null)) continue;
            Draw(now);
            if (kind == 1) Finish(sent, End.Expired);
            else sent.TakenBy = null;
        }
    }

    public void Take(long now, string user, Sent sent)
    {
        long time = DueNow;
        Draw(now);
        sent.TakenBy = user;
        sent.TakenUntil = sent.TakeFor > TimeSpan.Zero ? time + (long)sent.TakeFor.Value.TotalMicroseconds : null;
    }

    public void Release(long now, Sent sent)
    {
        Draw(now);
        sent.TakenBy = null;
    }

    public void Trim(long now, long upTo)
    {
        if (upTo <= Floor) return;
        Draw(now);
        Floor = upTo;
    }

    public void Mute(string user, bool isType, string text, bool mute)
    {
        var mutes = Of(user).Mutes;
        int open = mutes.FindIndex(m => m.Until is null && m.IsType == isType && m.Text == text);
        if (mute && open < 0) mutes.Add(new Muting(isType, text, Head, null));
        if (!mute && open >= 0) mutes[open] = mutes[open] with { Until = Head };
    }

    public bool IsMuted(string user, Sent sent) =>
        Of(user).Mutes.Exists(
        m => (m.IsType ? sent.Type : sent.Subject) == m.Text && sent.Position > m.After && sent.Position <= (m.Until ?? long.MaxValue));

    public void Token(long now, string user, string[]? roles, long issuedAt)
    {
        var person = Of(user);
        person.Shown[issuedAt] = person.Shown.GetValueOrDefault(issuedAt) || issuedAt > now;
        var all = person.Holds.ToHashSet();
        HashSet<string> held = [.. all.Where(h => !h.StartsWith("topic:", StringComparison.Ordinal))];
        HashSet<string> wanted = [.. held, "everyone"];
        if (roles is not null && person.Seen && issuedAt < person.IssuedAt) roles = null;
        if (roles is not null)
        {
            wanted = [.. roles.Select(r => "role:" + r), "everyone"];
            if (person.Seen && issuedAt == person.IssuedAt) wanted.IntersectWith(held);
        }
        if (roles is not null) person.IssuedAt = Math.Max(issuedAt, person.IssuedAt ?? 0);
        person.Seen = true;
        if (wanted.SetEquals(held)) return;
        long position = Draw(now);
        // Of what was trimmed nothing is looked back at.
        Move(person, all, [.. wanted, .. FollowedBy(user, wanted)], position,
            Math.Max(Floor, times.FindLastIndex(t => t <= now - (long)newcomers.TotalMicroseconds) + 1));
        foreach (var taken in All.Where(s => s.TakenBy == user && s.Position > Floor))
        {
            if (!person.Holds.Contains(taken.To[0].ToString()) || taken.Except.Any(e => person.Holds.Contains(e.ToString())))
            {
                Release(now, taken);
            }
        }
    }

    /// <summary>The address by which a notification reaches a person, dead or alive; null when it does not.</summary>
    public string? Reaches(string user, Sent sent)
    {
        var own = Address.User(new UserId(user));
        if (sent.To.Contains(own)) return own.ToString();
        if (sent.Except.Contains(own)) return null;
        var person = Of(user);
        foreach (var except in sent.Except)
        {
            if (person.Intervals.Exists(
                h => h.Address == except.ToString() && sent.Position > h.After && sent.Position <= (h.Until ?? long.MaxValue)))
            {
                return null;
            }
        }
        foreach (var address in sent.To.Select(a => a.ToString()).Order(StringComparer.Ordinal))
        {
            if (person.Intervals.Exists(h => h.Address == address && h.Until is null && sent.Position > h.After)) return address;
        }
        return null;
    }

    public bool IsVisible(string user, Sent sent) =>
        sent.Position > Floor && sent.Ended == End.None && (sent.TakenBy is null || sent.TakenBy == user)
        && Reaches(user, sent) is not null;

    public IEnumerable<Sent> Visible(string user) => All.Where(s => IsVisible(user, s));

    public bool IsUnread(string user, Sent sent) => !Of(user).Read.Contains(sent.Number) && !IsMuted(user, sent);

    public long Unread(string user) => Visible(user).Count(s => IsUnread(user, s));
}
