using Rovett.Core.Policies;

namespace Rovett.Simulator;

/// <summary>Topics in the reference: everybody is looked at whenever a policy or a grant changes, here or away.</summary>
public sealed partial class Reference
{
    /// <summary>A policy: on which topics what is allowed, or forbidden, to whom. Null for role and user: to anybody.</summary>
    public sealed record Rule(string Pattern, TopicRights Rights, bool Forbids, string? Role, string? User)
    {
        public bool Matches(string topic) => Pattern == topic || Pattern == "{any...}"
            || (Pattern.EndsWith("/{n}", StringComparison.Ordinal) && topic.StartsWith(Pattern[..^3], StringComparison.Ordinal));
    }

    public sealed record Given(long Number, string? User, string? Role, string Topic, TopicRights Rights, long? Until, bool Ended);

    public List<Rule> Rules { get; private set; } = [];
    public List<Given> Grants { get; } = [];

    /// <summary>Whether a user has a right on a topic. A right in use goes on until its grant's end is an entry.</summary>
    public bool May(string user, string topic, TopicRights right, long? now = null, IEnumerable<string>? roles = null)
    {
        var held = (roles ?? Of(user).Holds).ToHashSet();
        bool For(Rule r) => r.Matches(topic) && (r.Rights & right) != 0 && (r.Role is null || held.Contains("role:" + r.Role))
            && (r.User is null || r.User == user);
        if (Rules.Exists(r => r.Forbids && For(r))) return false;
        return Rules.Exists(r => !r.Forbids && For(r))
            || Grants.Exists(
            g => !g.Ended && g.Topic == topic && (g.Rights & right) != 0 && (now is null || g.Until is null || g.Until > DueNow)
            && (g.User == user || (g.Role is not null && held.Contains("role:" + g.Role))));
    }

    HashSet<string> FollowedBy(string user, IEnumerable<string>? roles = null) =>
        [.. Of(user).Follows.Where(t => May(user, t, TopicRights.Follow, null, roles)).Select(t => "topic:" + t)];

    /// <summary>Brings what a user holds of topics up to what may be, as of an entry; one is made when there is none
    /// and something changes.</summary>
    void Reconsider(long now, string user, long? position)
    {
        var person = Of(user);
        var held = person.Holds.Where(h => h.StartsWith("topic:", StringComparison.Ordinal)).ToHashSet();
        var wanted = FollowedBy(user);
        if (held.SetEquals(wanted)) return;
        position ??= Draw(now);
        Move(person, held, wanted, position.Value, position.Value);
    }

    static void Move(Person person, HashSet<string> held, HashSet<string> wanted, long position, long lookBack)
    {
        foreach (var lost in held.Except(wanted))
        {
            int i = person.Intervals.FindIndex(h => h.Until is null && h.Address == lost);
            person.Intervals[i] = person.Intervals[i] with { Until = position };
        }
        foreach (var gained in wanted.Except(held))
        {
            long lastLoss = person.Intervals.Where(h => h.Address == gained).Select(h => h.Until!.Value).DefaultIfEmpty(0).Max();
            person.Intervals.Add(
                new Held(gained, gained.StartsWith("topic:", StringComparison.Ordinal) ? position : Math.Max(lastLoss, lookBack), null));
        }
        person.ChangedAt = position;
    }

    public void Follow(long now, string user, string topic, bool follow)
    {
        if (follow == Of(user).Follows.Contains(topic)) return;
        if (follow) Of(user).Follows.Add(topic);
        else Of(user).Follows.Remove(topic);
        Reconsider(now, user, null);
    }

    public void Load(long now, List<Rule> rules)
    {
        long position = Draw(now);
        Rules = rules;
        foreach (var user in persons.Keys.ToList()) Reconsider(now, user, position);
    }

    public void Give(long now, string? user, string? role, string topic, TopicRights rights, TimeSpan? holds)
    {
        if (user is not null) Of(user);
        long position = Draw(now);
        Grants.Add(new Given(position, user, role, topic, rights, holds is { } span ? DueNow + (long)span.TotalMicroseconds : null, false));
        foreach (var one in persons.Keys.ToList()) Reconsider(now, one, position);
    }

    public void EndGrant(long now, long number)
    {
        int i = Grants.FindIndex(g => g.Number == number && !g.Ended);
        if (i < 0) return;
        long position = Draw(now);
        Grants[i] = Grants[i] with { Ended = true };
        foreach (var one in persons.Keys.ToList()) Reconsider(now, one, position);
    }
}
