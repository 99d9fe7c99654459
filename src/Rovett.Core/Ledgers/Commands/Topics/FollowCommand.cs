using Rovett.Core.Policies;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Follows a topic for a user, or stops following it; answered when on disk. Answers the decision
/// and the topics followed; without the right nothing changes.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">The user's id.</param>
/// <param name="topic">The topic, in its one form.</param>
/// <param name="follow">True to follow, false to stop following.</param>
/// <param name="most">The most topics a user may follow.</param>
/// <param name="by">The credential of the request, which must still be valid; null: none is checked.</param>
public sealed class FollowCommand(string space, string userId, string topic, bool follow, int most, Identity? by = null)
    : LedgerCommand<(Decision Decision, IReadOnlyList<FollowedTopic> Follows, Totals Totals)>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var user = Users.Required(state, userId, by);
        var decision = follow ? state.Topics.Decide(user, topic, TopicRights.Follow) : new Decision(true, "");
        if (decision.Allowed && follow != user.Follows.ContainsKey(topic))
        {
            if (follow && user.Follows.Count >= most)
            {
                throw new Problem(422, "too-many-follows", "Too many followed topics", $"The limit is {most} (topicsPerUser).",
                    "Unfollow one first.").ToException();
            }
            if (follow)
            {
                user.Follows[topic] = state.Head;
                user.Row = user.Row with { RulesSeen = state.Topics.RulesAt };
                ledger.Store.AddFollow(user.PersonId, topic, state.Head);
            }
            else
            {
                user.Follows.Remove(topic);
                ledger.Store.RemoveFollow(user.PersonId, topic);
                if (user.Follows.Count == 0) user.Row = user.Row with { RulesSeen = null };
            }
            ledger.NextRev(user);
            Roles.Reconsider(ledger, state, user, null);
        }
        state.UserLogs.Ensure(user);
        Answer = (decision, FollowedTopic.Of(user), Plans.TotalsOf(user));
    }
}

/// <summary>The topics that a user follows.</summary>
public sealed class FollowsCommand(string space, string userId) : LedgerCommand<IReadOnlyList<FollowedTopic>>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger) => Answer = ledger.Space(Space).Find(userId) is { } user ? FollowedTopic.Of(user) : [];
}
