using System.Collections.Concurrent;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;
using Rovett.Core.Visibility;
using Rovett.Service.Audit;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Service.Options;
using Rovett.Service.Spaces;

namespace Rovett.Service.Topics;

/// <summary>Lets users onto topics: by the policies and grants of the space, or by asking the backend that a policy names,
/// whose yes becomes a grant with an end. A user hears that it was refused, and no more; why, the audit trail has.</summary>
public sealed class TopicGate : IDisposable
{
    // Between two looks at the answers that end, policies may change which decider is asked.
    const int MostTries = 3;
    const int MostAskedAgain = 64; // of one space, at once
    static readonly TimeSpan AskAgainEvery = TimeSpan.FromSeconds(1), AskAgainWithin = TimeSpan.FromSeconds(10);

    readonly LedgerPump ledger;
    readonly Deciders deciders;
    readonly Refusals refusals;
    readonly SpaceDirectory spaces;
    readonly RovettOptions options;
    readonly Faults faults;
    readonly ServiceClock clock;
    readonly Agendas agendas;
    readonly ConcurrentDictionary<(SpaceRuntime Space, long Grant), bool> askedAgain = new();
    readonly Repeating rounds;

    /// <summary>Starts asking again for answers that end soon.</summary>
    public TopicGate(LedgerPump ledger, Deciders deciders, Refusals refusals, SpaceDirectory spaces, RovettOptions options,
        ServiceClock clock, Faults faults, Agendas agendas)
    {
        (this.ledger, this.deciders, this.refusals, this.spaces, this.faults) = (ledger, deciders, refusals, spaces, faults);
        (this.options, this.clock, this.agendas) = (options, clock, agendas);
        rounds = new Repeating(nameof(AskAgain), AskAgainEvery, clock, faults, AskAgain);
    }

    /// <summary>A session takes a topic's channel.</summary>
    /// <exception cref="ProblemException">403: refused; 503: the backend that decides can't be asked.</exception>
    public async Task Subscribe(SpaceRuntime space, UserState user, ISessionPort session, string topic, Position? after) =>
        await Decided(space, user.Id.Value, topic, TopicRights.Subscribe,
        async () => (await ledger.Ask(new SubscribeCommand(space.Name, user, session, topic, after, options.TopicsPerSession))).Decision);

    /// <summary>A session says something on a topic.</summary>
    /// <exception cref="ProblemException">403: refused; 503: the backend that decides can't be asked.</exception>
    public Task Say(SpaceRuntime space, UserState user, ISessionPort session, string topic, byte[] data, bool toSelf) =>
        Decided(space, user.Id.Value, topic, TopicRights.Say,
        () => ledger.Ask(new SayCommand(space.Name, user, session, topic, data, toSelf)));

    /// <summary>A session looks at who is on a topic or role.</summary>
    /// <exception cref="ProblemException">403: refused; 503: the backend that decides can't be asked.</exception>
    public async Task Watch(SpaceRuntime space, UserState user, ISessionPort session, Address address)
    {
        Task<Decision> Attempt() => ledger.Ask(new WatchCommand(space.Name, user, session, address, options.TopicsPerSession));
        if (address.Kind == AddressKind.Topic) await Decided(space, user.Id.Value, address.Name, TopicRights.Presence, Attempt);
        else if (await Attempt() is { Allowed: false } refused)
        {
            await Refuse(space, user.Id.Value, address.ToString(), "presence", refused.By);
        }
    }

    /// <summary>A user follows a topic.</summary>
    /// <exception cref="ProblemException">403: refused; 503: the backend that decides can't be asked.</exception>
    public async Task<(IReadOnlyList<FollowedTopic> Follows, Totals Totals)> Follow(SpaceRuntime space, Identity by, string topic)
    {
        var answer = (Decision: default(Decision), Follows: (IReadOnlyList<FollowedTopic>)[], Totals: default(Totals));
        await Decided(space, by.User.Value, topic, TopicRights.Follow,
            async () => (answer = await ledger.Ask(new FollowCommand(space.Name, by.User.Value, topic, true, options.TopicsPerUser,
                by))).Decision);
        return (answer.Follows, answer.Totals);
    }

    /// <summary>A user stops following a topic.</summary>
    public async Task<(IReadOnlyList<FollowedTopic> Follows, Totals Totals)> Unfollow(SpaceRuntime space, Identity by, string topic)
    {
        var (_, follows, totals) = await ledger.Ask(new FollowCommand(space.Name, by.User.Value, topic, false, options.TopicsPerUser, by));
        return (follows, totals);
    }

    /// <summary>A user connected: what is followed and was not the user's while the backend could not be asked is asked
    /// for again.</summary>
    public async Task Returned(SpaceRuntime space, string user)
    {
        try
        {
            foreach (var followed in await ledger.Ask(new FollowsCommand(space.Name, user)))
            {
                if (followed.Active) continue;
                var decision = await ledger.Ask(new DecideCommand(space.Name, user, followed.Topic, TopicRights.Follow));
                if (decision is { Allowed: false, Ask: { } policy }) await AskFor(space, user, followed.Topic, TopicRights.Follow, policy);
            }
        }
        catch (ProblemException)
        {
            // Too much to do, or the space was removed; the next connection asks.
        }
        catch (Exception error)
        {
            faults.Thrown(space.Name, "asking for what a user follows", error);
        }
    }

    async Task Decided(SpaceRuntime space, string user, string topic, TopicRights right, Func<Task<Decision>> attempt)
    {
        string? failure = null;
        var by = "";
        for (int i = 0; i < MostTries; i++)
        {
            var decision = await attempt();
            if (decision.Allowed) return;
            by = decision.By;
            if (decision.Ask is not { } policy) break;
            by = PolicySet.Called(policy);
            var answer = await AskFor(space, user, topic, right, policy);
            failure = answer.Failure;
            if (!answer.Allowed)
            {
                by += failure is null ? ": the backend denied it" : $": the backend that decides {failure}";
                break;
            }
        }
        var name = RightNames.Of(right).First();
        if (failure is null) await Refuse(space, user, $"topic:{topic}", name, by);
        else
        {
            await refusals.Note(space.Name, user, $"topic:{topic}", name, by);
            throw new Problem(503, "decision-unavailable", "Authorization is temporarily unavailable",
                $"To {name} 'topic:{topic}' is refused until the decider answers again.",
                "Try again after the seconds named in Retry-After.")
            { RetryAfterSeconds = 10 }.ToException();
        }
    }

    async Task Refuse(SpaceRuntime space, string user, string address, string right, string by)
    {
        await refusals.Note(space.Name, user, address, right, by.Length > 0 ? by : "no policy or grant allows it");
        throw new Problem(403, "not-allowed", "Not allowed", $"To {right} '{address}' is refused.",
            "Operators: rovett explain shows why.").ToException();
    }

    async Task<BackendAnswer> AskFor(SpaceRuntime space, string user, string topic, TopicRights right, Policy policy)
    {
        var answer = await deciders.Ask(new Question(space, user, topic, right, policy.Name), policy.Ask!);
        if (answer.Allowed) await Grant(space, user, topic, right, policy.Name, answer);
        return answer;
    }

    /// <summary>Asks for answers that end soon, so that users who still may stay on the channel without a break. No answer
    /// waits for another.</summary>
    async Task AskAgain()
    {
        long until = clock.Due.Micros + (long)AskAgainWithin.TotalMicroseconds;
        foreach (var space in spaces.Here.Where(s => agendas.Of(s.Name).NextDue.Micros <= until)) await AskAgain(space);
    }

    async Task AskAgain(SpaceRuntime space)
    {
        try
        {
            int free = MostAskedAgain - askedAgain.Keys.Count(k => k.Space == space);
            foreach (var ending in (await ledger.Ask(new EndingAnswersCommand(space.Name, AskAgainWithin))).Where(
                e => !askedAgain.ContainsKey((space, e.Grant.Number))).Take(free))
            {
                _ = AskAgain(space, ending);
            }
        }
        catch (ProblemException)
        {
            // Too much to do, or the space was removed; the next round, a second from now, tries again.
        }
        catch (Exception error)
        {
            faults.Thrown(space.Name, nameof(AskAgain), error);
        }
    }

    async Task AskAgain(SpaceRuntime space, GrantInfo ending)
    {
        var (grant, user) = ending;
        askedAgain[(space, grant.Number)] = true;
        try
        {
            var decider = await ledger.Ask(new AskedByCommand(space.Name, grant.Policy));
            var answer = await deciders.Ask(new Question(space, user!, grant.Topic, grant.Rights, grant.Policy), decider ?? "");
            if (answer.Allowed) await Grant(space, user!, grant.Topic, grant.Rights, grant.Policy, answer);
            // A backend that does not answer leaves what it said before in force until that ends.
            else if (answer.Failure is null) await ledger.Ask(new EndGrantCommand(space.Name, grant.Number));
        }
        catch (ProblemException)
        {
            // Too much to do, or the space was removed; the next round, a second from now, tries again.
        }
        catch (Exception error)
        {
            faults.Thrown(space.Name, nameof(AskAgain), error);
        }
        finally
        {
            askedAgain.TryRemove((space, grant.Number), out _);
        }
    }

    Task Grant(SpaceRuntime space, string user, string topic, TopicRights right, string policy, BackendAnswer answer) =>
        ledger.Ask(new GrantCommand(space.Name, new GrantDraft(user, null, topic, right, answer.Holds, null, policy, answer.Profile)));

    /// <inheritdoc/>
    public void Dispose() => rounds.Dispose();
}
