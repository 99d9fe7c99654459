using System.Text.Json;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;

namespace Rovett.Simulator;

/// <summary>The topics that a device's session has subscribed to, as they must be.</summary>
sealed partial class Device
{
    readonly Dictionary<Line, Dictionary<string, long>> subscribed = [];

    public void PruneSubscriptions()
    {
        foreach (var topics in subscribed.Values)
        {
            foreach (var topic in topics.Keys.Where(t => !world.Reference.May(user, t, TopicRights.Subscribe)).ToList())
            {
                topics.Remove(topic);
            }
        }
    }

    public void SubscribeSomething()
    {
        if (line is not { Detached: false } at) return;
        var topic = World.Topics[world.Random.Next(World.Topics.Length)];
        if (world.Random.Next(4) == 0)
        {
            Say(at, $"{{\"kind\":\"unsubscribe\",\"topic\":\"{topic}\"}}",
                message => world.Post(new UnsubscribeCommand("main", at.User, at.Port, message.Topic), _ => { },
                _ => subscribed.GetValueOrDefault(at)?.Remove(topic)));
            return;
        }
        var after = world.Random.Next(3) == 0 && cursor is not null ? $",\"after\":\"{cursor}\"" : "";
        Say(at, $"{{\"kind\":\"subscribe\",\"topic\":\"{topic}\"{after}}}", message =>
        {
            var command = new SubscribeCommand("main", at.User, at.Port, topic, message.After, World.Topics.Length);
            bool ended = at.Session.IsEnded;
            world.Post(command, _ => { }, now =>
            {
                if (at.Session.IsEnded || at.Closed) return; // nobody is there
                bool may = world.Reference.May(user, topic, TopicRights.Subscribe, now);
                if (command.Task.Result.Decision.Allowed != may)
                {
                    throw world.Wrong(
                        $"{name} asked to subscribe to {topic} and was told {command.Task.Result.Decision}, the reference says {may}");
                }
                if (!may) return;
                if (!subscribed.TryGetValue(at, out var topics)) subscribed[at] = topics = [];
                topics.TryAdd(topic, message.After is { } said
                    && said.Value < world.Reference.Head
                    ? Math.Max(said.Value, world.Reference.MaySince(user, topic))
                    : world.Reference.Head);
            });
        });
    }

    /// <summary>Says something on a topic, to who is connected.</summary>
    public void SaySomething()
    {
        if (line is not { Detached: false } at) return;
        var topic = World.Topics[world.Random.Next(World.Topics.Length)];
        bool toSelf = world.Random.Next(2) == 0;
        Say(at, $"{{\"kind\":\"say\",\"topic\":\"{topic}\",\"data\":{{\"by\":\"{name}\"}}{(toSelf ? ",\"self\":true" : "")}}}", message =>
        {
            var command = new SayCommand("main", at.User, at.Port, message.Topic, message.Data, message.ToSelf);
            world.Post(command, _ => { }, now =>
            {
                if (at.Session.IsEnded || at.Closed) return; // nobody is there
                bool may = world.Reference.May(user, topic, TopicRights.Say, now);
                if (command.Task.Result.Allowed != may)
                {
                    throw world.Wrong($"{name} said something on {topic} and was told {command.Task.Result}, the reference says {may}");
                }
                if (may) world.Counts.Said++;
            });
        });
    }

    /// <summary>A `said` message may only be sent to sessions on the topic's channel.</summary>
    void CheckSaidLeaving(Line at, JsonElement message)
    {
        var topic = message.GetProperty("to").GetString()!["topic:".Length..];
        bool isOn = world.Reference.Of(user).Holds.Contains("topic:" + topic)
            || subscribed.GetValueOrDefault(at)?.ContainsKey(topic) == true;
        if (!isOn) throw world.Wrong($"{name} is sent {message.GetRawText()}, and is not on {topic}");
    }

    /// <summary>A session that has subscribed for as long as nothing changed for its user has everything that came since.</summary>
    void CheckSubscribed(Line at)
    {
        if (!subscribed.TryGetValue(at, out var topics) || world.Reference.Of(user).Mutes.Count > 0) return;
        long from = Math.Max(Math.Max(world.Reference.Floor, at.OpenedAt), world.Reference.Of(user).ChangedAt);
        foreach (var sent in world.Reference.All.Where(s => s.Position > from && s.Ended == Reference.End.None && s.TakenBy is null))
        {
            if (world.Reference.Reaches(user, sent) is not null || !world.IsSubscribed(user, topics, sent)) continue;
            if (!at.Seen.Concat(at.Caused).Any(id => world.Sent(id) == sent))
            {
                throw world.Wrong($"{name} has subscribed to {string.Join(' ', topics)} and was not sent {sent.Number} at " +
                    $"{sent.Position} ({string.Join(' ', sent.To)})");
            }
        }
    }
}
