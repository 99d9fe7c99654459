namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>A topic that a user follows.</summary>
/// <param name="Topic">The topic.</param>
/// <param name="Active">False as long as the user may not: nothing of it is sent, listed or counted.</param>
public sealed record FollowedTopic(string Topic, bool Active)
{
    internal static IReadOnlyList<FollowedTopic> Of(UserState user) =>
        [.. user.Follows.Keys.Order(StringComparer.Ordinal).Select(t => new FollowedTopic(t, user.Holds("topic:" + t)))];
}
