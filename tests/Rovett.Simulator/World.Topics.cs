using System.Text;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;

namespace Rovett.Simulator;

/// <summary>What happens to topics in a world: policies, grants, who follows.</summary>
public sealed partial class World
{
    static readonly string[] Patterns = ["berth/3", "berth/{n}", "sailing/{n}", "{any...}"];
    const int MostTopics = 100;

    TopicRights SomeRights() =>
        Pick([TopicRights.Subscribe, TopicRights.Follow, TopicRights.Subscribe | TopicRights.Follow, TopicRights.Presence,
        TopicRights.Subscribe | TopicRights.Presence, TopicRights.Subscribe | TopicRights.Follow | TopicRights.Presence,
            TopicRights.Say | TopicRights.Subscribe, TopicRights.Say | TopicRights.Follow]);

    void LoadPolicies()
    {
        var rules = new List<Reference.Rule>();
        for (int i = random.Next(5); i >= 0; i--)
        {
            int whom = random.Next(3);
            rules.Add(new Reference.Rule(Pick(Patterns), SomeRights(), Chance(0.2), whom == 0 ? Pick(Roles) : null,
                whom == 1 ? Pick(Users) : null));
        }
        var document = Document(rules);
        using var parsed = JsonDocument.Parse(document);
        var errors = new List<FieldError>();
        var set = PolicyReader.Read(parsed.RootElement, errors);
        if (errors.Count > 0) throw Wrong($"the policies {Encoding.UTF8.GetString(document)} are refused: {errors[0]}");
        var put = new PutPoliciesCommand("main", set, document, null) { StepSize = SomeStep() };
        Post(put, _ => { }, now =>
        {
            reference.Load(now, rules);
            if (put.Task.IsCompletedSuccessfully && put.Task.Result.Position != reference.Head)
            {
                throw Wrong($"the policies got version {put.Task.Result.Position}, the reference says {reference.Head}");
            }
            PruneSubscriptions();
        });
    }

    int SomeStep() => Chance(0.7) ? 1 : 0;

    static byte[] Document(List<Reference.Rule> rules) => JsonSerializer.SerializeToUtf8Bytes(new
    {
        policies = rules.Select((r, i) => new Dictionary<string, object>
        {
            ["name"] = $"rule {i}",
            ["topic"] = r.Pattern,
            [r.Forbids ? "never" : "may"] = RightNames.Of(r.Rights),
            ["when"] = r.Role is not null ? new { role = r.Role } : r.User is not null
                ? new { user = r.User }
                : (object)new { anyone = true },
        }),
    });

    void GrantSomething()
    {
        bool toUser = Chance(0.6);
        var (user, role) = (toUser ? Pick(Users) : null, toUser ? null : Pick(Roles));
        var topic = Pick(Topics);
        var rights = SomeRights();
        TimeSpan? holds = Chance(0.6) ? TimeSpan.FromMilliseconds(random.Next(1000, 60_000_000)) : null;
        Post(new GrantCommand("main", new GrantDraft(user, role, topic, rights, holds, null)) { StepSize = SomeStep() }, _ => { }, now =>
        {
            reference.Give(now, user, role, topic, rights, holds);
            PruneSubscriptions();
        });
    }

    void EndSomeGrant()
    {
        if (reference.Grants.Where(g => !g.Ended).ToList() is not { Count: > 0 } open) return;
        long number = Pick(open).Number;
        Post(new EndGrantCommand("main", number) { StepSize = SomeStep() }, _ => { }, now =>
        {
            reference.EndGrant(now, number);
            PruneSubscriptions();
        });
    }

    void FollowSomething()
    {
        var (user, topic) = (Pick(Users), Pick(Topics));
        bool follow = Chance(0.7);
        if (!reference.Exists(user) || !reference.Of(user).Seen) return;
        var command = new FollowCommand("main", user, topic, follow, MostTopics);
        Post(command, _ => { }, now =>
        {
            bool may = !follow || reference.May(user, topic, TopicRights.Follow, now);
            if (command.Task.Result.Decision.Allowed != may)
            {
                throw Wrong($"{user} asked to {(follow ? "follow" : "unfollow")} {topic} and was told {command.Task.Result.Decision}, " +
                    $"the reference says {may}");
            }
            if (may) reference.Follow(now, user, topic, follow);
            if (command.Task.Result.Totals.Unread != reference.Unread(user))
            {
                throw Wrong($"{user} follows {topic} and was told {command.Task.Result.Totals.Unread} unread, the reference says " +
                    $"{reference.Unread(user)}");
            }
            var listed = command.Task.Result.Follows.Select(f => (f.Topic, f.Active)).ToList();
            var wanted = reference.Of(user).Follows.Order(StringComparer.Ordinal)
                .Select(t => (t, reference.Of(user).Holds.Contains("topic:" + t))).ToList();
            if (!listed.SequenceEqual(wanted))
            {
                throw Wrong($"{user} follows {string.Join(' ', listed)}, the reference says {string.Join(' ', wanted)}");
            }
        });
    }

    /// <summary>Sessions lose what their users may not have any more.</summary>
    internal void PruneSubscriptions()
    {
        foreach (var device in devices) device.PruneSubscriptions();
    }

    /// <summary>Who is connected and on a topic's channel.</summary>
    internal HashSet<string> WhoIsOn(string topic) => [.. devices.Where(d => d.IsOn(topic)).Select(d => d.User)];

    /// <summary>Whether a notification comes to a session because it has subscribed, and for no other reason.</summary>
    internal bool IsSubscribed(string user, IReadOnlyDictionary<string, long> topics, Reference.Sent sent)
    {
        var own = Address.User(new UserId(user));
        return sent.To.Any(a => a.Kind == AddressKind.Topic && topics.TryGetValue(a.Name, out long since) && sent.Position > since)
            && !sent.Except.Contains(own) && !sent.Except.Any(e => reference.Of(user).Holds.Contains(e.ToString()));
    }
}
