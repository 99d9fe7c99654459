namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>A topic that a user follows.</summary>
/// <param name="Topic">The topic.</param>
/// <param name="Active">False as long as the user may not: nothing of it is sent, listed or counted.</param>
public sealed record Followed(string Topic, bool Active)
{
    internal static IReadOnlyList<Followed> Of(UserState user) => [.. user.Follows.Keys.Order(StringComparer.Ordinal).Select(t => new Followed(t, user.Holds("topic:" + t)))];
}
