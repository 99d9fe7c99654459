using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;

namespace Rovett.Simulator;

/// <summary>What a device shows of who is on topics.</summary>
sealed partial class Device
{
    readonly Dictionary<Line, Dictionary<string, HashSet<string>?>> watched = []; // by topic; null: nothing was shown yet

    public void WatchSomething()
    {
        if (line is not { Detached: false } at) return;
        var topic = World.Topics[world.Random.Next(World.Topics.Length)];
        var address = new Address(AddressKind.Topic, topic);
        if (world.Random.Next(5) == 0)
        {
            Say(at, $"{{\"kind\":\"unwatch\",\"address\":\"{address}\"}}",
                message => world.Post(new UnwatchCommand("main", at.User, at.Port, message.Address), _ => { },
                _ => watched.GetValueOrDefault(at)?.Remove(topic)));
            return;
        }
        Say(at, $"{{\"kind\":\"watch\",\"address\":\"{address}\"}}", message =>
        {
            var command = new WatchCommand("main", at.User, at.Port, message.Address, World.Topics.Length);
            world.Post(command, _ => { }, now =>
            {
                if (at.Session.IsEnded || at.Closed) return; // nobody is there
                bool may = world.Reference.May(user, topic, TopicRights.Presence, now);
                if (command.Task.Result.Allowed != may)
                {
                    throw world.Wrong($"{name} asked who is on {topic} and was told {command.Task.Result}, the reference says {may}");
                }
                if (!may) return;
                if (!watched.TryGetValue(at, out var topics)) watched[at] = topics = [];
                topics.TryAdd(topic, null);
            });
        });
    }

    /// <summary>What leaves about presence is the user's to see when it leaves.</summary>
    void CheckPresenceLeaving(JsonElement message)
    {
        if (message.TryGetProperty("ended", out _)) return;
        var topic = TopicOf(message);
        if (!world.Reference.May(user, topic, TopicRights.Presence))
        {
            throw world.Wrong($"{name} is shown {message.GetRawText()}, which is not {user}'s to see");
        }
    }

    static string TopicOf(JsonElement message) => message.GetProperty("of").GetString()!["topic:".Length..];

    void Presence(Line at, JsonElement message)
    {
        var topic = TopicOf(message);
        if (message.TryGetProperty("ended", out _))
        {
            watched.GetValueOrDefault(at)?.Remove(topic);
            return;
        }
        // It has looked away, or lost it, meanwhile.
        if (watched.GetValueOrDefault(at) is not { } topics || !topics.TryGetValue(topic, out var shown)) return;
        if (message.TryGetProperty("people", out var people))
        {
            shown = [.. people.EnumerateArray().Select(p => p.GetProperty("user").GetString()!)];
        }
        else if (shown is null) return; // of an earlier look, before it looked away
        else
        {
            foreach (var one in message.GetProperty("arrived").EnumerateArray())
            {
                if (!shown.Add(one.GetProperty("user").GetString()!))
                {
                    throw world.Wrong($"{name} hears of an arrival on {topic} twice: {message.GetRawText()}");
                }
            }
            foreach (var one in message.GetProperty("left").EnumerateArray())
            {
                if (!shown.Remove(one.GetString()!))
                {
                    throw world.Wrong($"{name} hears of a departure from {topic} of who was not there: {message.GetRawText()}");
                }
            }
        }
        if (message.GetProperty("count").GetInt32() != shown.Count)
        {
            throw world.Wrong($"{name} is told {message.GetRawText()}, and shows {string.Join(' ', shown)}");
        }
        topics[topic] = shown;
    }

    /// <summary>The topics whose channel the session is on.</summary>
    public bool IsOn(string topic) => line is { } at && !at.Session.IsEnded && !at.Session.Silent
        && (world.Reference.Of(user).Holds.Contains("topic:" + topic) || subscribed.GetValueOrDefault(at)?.ContainsKey(topic) == true);

    void CheckPresence(Line at)
    {
        foreach (var (topic, shown) in watched.GetValueOrDefault(at) ?? [])
        {
            if (!world.Reference.May(user, topic, TopicRights.Presence))
            {
                throw world.Wrong($"{name} still looks at {topic}, which is not {user}'s to see");
            }
            var there = world.WhoIsOn(topic);
            if (shown is null || !shown.SetEquals(there))
            {
                throw world.Wrong($"{name} shows on {topic}: {(shown is null ? "nothing" : string.Join(' ', shown))}; there are " +
                    $"{string.Join(' ', there)}");
            }
        }
    }
}
