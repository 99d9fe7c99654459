using Rovett.Core.Addresses;

namespace Rovett.Core.Tests;

/// <summary>What everybody may see, slow and obviously right: every question is answered by looking at everything.</summary>
sealed class ReferenceModel(TimeSpan newcomers)
{
    public sealed record Sent(int Number, long Position, DateTimeOffset Time, IReadOnlyList<Address> To, IReadOnlyList<Address> Except, string? Subject);

    internal sealed record Held(string Address, long After, long? Until);

    public sealed class Person
    {
        internal List<Held> Intervals { get; } = [];
        internal long? IssuedAt { get; set; }
        internal bool Seen { get; set; }
        public HashSet<int> Read { get; } = [];
        public HashSet<int> Received { get; } = [];
        public IEnumerable<string> Holds => Intervals.Where(h => h.Until is null).Select(h => h.Address);
    }

    readonly Dictionary<string, Person> persons = [];
    readonly List<(long Position, DateTimeOffset Time)> entries = [];

    public List<Sent> All { get; } = [];
    public long Head => entries.Count;

    public Person Of(string user) => persons.TryGetValue(user, out var p) ? p : persons[user] = new Person();

    public Sent Send(DateTimeOffset now, IReadOnlyList<Address> to, IReadOnlyList<Address> except, string? subject)
    {
        entries.Add((Head + 1, now));
        var sent = new Sent(All.Count, Head, now, to, except, subject);
        All.Add(sent);
        return sent;
    }

    public void Token(DateTimeOffset now, string user, string[]? roles, long issuedAt)
    {
        var person = Of(user);
        var held = person.Holds.ToHashSet();
        HashSet<string> wanted;
        if (roles is null) wanted = [.. held, "everyone"];
        else if (person.Seen && issuedAt < person.IssuedAt) return;
        else
        {
            wanted = [.. roles.Select(r => "role:" + r), "everyone"];
            if (person.Seen && issuedAt == (person.IssuedAt ?? 0)) wanted.IntersectWith(held);
        }
        person.Seen = true;
        person.IssuedAt = roles is null ? person.IssuedAt ?? 0 : Math.Max(issuedAt, person.IssuedAt ?? 0);
        if (wanted.SetEquals(held)) return;
        entries.Add((Head + 1, now));
        long position = Head;
        foreach (var lost in held.Except(wanted))
        {
            int i = person.Intervals.FindIndex(h => h.Until is null && h.Address == lost);
            person.Intervals[i] = person.Intervals[i] with { Until = position };
        }
        long lookBack = entries.Where(e => e.Time <= now - newcomers).Select(e => e.Position).DefaultIfEmpty(0).Max();
        foreach (var gained in wanted.Except(held))
        {
            long lastLoss = person.Intervals.Where(h => h.Address == gained).Select(h => h.Until!.Value).DefaultIfEmpty(0).Max();
            person.Intervals.Add(new Held(gained, Math.Max(lastLoss, lookBack), null));
        }
    }

    /// <summary>The address by which a notification reaches a person, or null when it does not.</summary>
    public string? Reaches(string user, Sent sent)
    {
        var own = Address.User(new UserId(user));
        if (sent.To.Contains(own)) return own.ToString();
        if (sent.Except.Contains(own)) return null;
        var person = Of(user);
        foreach (var except in sent.Except)
        {
            if (person.Intervals.Any(h => h.Address == except.ToString() && sent.Position > h.After && sent.Position <= (h.Until ?? long.MaxValue))) return null;
        }
        foreach (var address in sent.To.Select(a => a.ToString()).Order(StringComparer.Ordinal))
        {
            if (person.Intervals.Any(h => h.Address == address && h.Until is null && sent.Position > h.After)) return address;
        }
        return null;
    }

    public IEnumerable<Sent> Visible(string user) => All.Where(s => Reaches(user, s) is not null);

    public long Unread(string user) => Visible(user).Count(s => !Of(user).Read.Contains(s.Number));
}
