namespace Rovett.Core.Visibility;

/// <summary>The channels a session is on.</summary>
/// <param name="All">Every one: the user's own, the roles', those of topics, everyone's.</param>
/// <param name="Subscribed">Of the topics, those that the session has only subscribed to.</param>
public sealed record ChannelList(IReadOnlyList<string> All, IReadOnlyList<string> Subscribed);
