using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Nodes;
using Rovett.Core.Policies;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Subscribes a session to a topic for as long as it lasts. Answers the decision; without the right
/// nothing changes.</summary>
/// <param name="space">The space's name.</param>
/// <param name="user">The user.</param>
/// <param name="session">The session.</param>
/// <param name="topic">The topic, in its one form.</param>
/// <param name="after">The device has what came up to here; null: it starts now.</param>
/// <param name="most">The most topics a session may subscribe to.</param>
public sealed class SubscribeCommand(string space, UserState user, ISessionPort session, string topic, Position? after, int most)
    : LedgerCommand<(Decision Decision, ChannelList Channels)>(space)
{
    /// <summary>The most notifications that a subscription is caught up with.</summary>
    public const int CatchUp = 100;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (SessionPlaces.Find(state, user, session) is not var (present, place))
        {
            Answer = (new Decision(true, ""), new ChannelList([], [])); // it is gone: nobody is there to hear
            return;
        }
        var decision = state.Topics.Decide(present, topic, TopicRights.Subscribe);
        if (decision.Allowed && !place.Topics.ContainsKey(topic))
        {
            if (place.Topics.Count >= most)
            {
                throw new Problem(429, "too-many-topics", "Too many subscriptions",
                    $"The limit is {most} for one session (topicsPerSession).",
                    "Unsubscribe from one first, or follow topics instead.")
                { RetryAfterSeconds = 1 }.ToException();
            }
            Subscribe(ledger, state, present, place);
        }
        Answer = (decision, Roles.ChannelsOf(present, place));
    }

    void Subscribe(Ledger ledger, SpaceState state, UserState present, SessionPlace place)
    {
        long since = after is { } said && said.Value < state.Head
            ? state.Topics.HeldSince(present, topic, TopicRights.Subscribe, said.Value)
            : state.Head;
        bool cut = false;
        foreach (var log in after is null ? [] : state.AudiencesOf("topic:" + topic))
        {
            cut |= log.Lost.Position > since;
            if (log.Head - state.OrdinalAt(log, since) <= CatchUp) continue;
            cut = true;
            since = Math.Max(since, ledger.Store.NewestItems(log.Id, 0, CatchUp + 1)[^1].Position);
        }
        Roles.ChangeTopics(ledger, state, place, topics => topics[topic] = since);
        // From here on no page is taken that was read without the topic.
        present.PlanVersion++;
        foreach (var other in present.Sessions) state.Port.Add(new NodePlan(other.Session, present.PlanVersion, null));
        if (cut) ledger.Tell(place, Messages.Gap("catch-up", null, topic));
        state.Port.Add(new NodeMissed(session, state.Head,
            [.. Missed(ledger, state, place, since).Select(e => (e.Position.Value, Messages.CaughtUp(e, "topic:" + topic)))]));
        Roles.TellChannels(ledger, present, place);
    }

    /// <summary>What came on the topic after a position, and no topic brought that it had subscribed to before. What the session is
    /// not past yet, a page will bring.</summary>
    List<EntryRow> Missed(Ledger ledger, SpaceState state, SessionPlace place, long since)
    {
        var missed = new SortedDictionary<long, EntryRow>();
        foreach (var watch in place.SubscribedLogs)
        {
            var topics = watch.Seen.Log.Audience!.Includes.Where(a => a.Kind == AddressKind.Topic).Select(a => a.Name).ToList();
            if (!topics.Contains(topic) || watch.Seen.Log.HeadPosition <= since) continue;
            long brought = topics.Where(t => t != topic && place.Topics.ContainsKey(t)).Select(t => place.Topics[t])
                .Append(state.Head).Min();
            foreach (var (ordinal, position) in ledger.Store.NewestItems(watch.Seen.Log.Id, watch.Seen.Segments[0].Lo, CatchUp))
            {
                if (position > brought || position <= since || !watch.Seen.IsToldOf(ordinal))
                {
                    continue;
                }
                if (ledger.Store.FindEntry(state.Id, position) is { } entry) missed[position] = entry;
            }
        }
        return [.. missed.Values.TakeLast(CatchUp)];
    }
}
