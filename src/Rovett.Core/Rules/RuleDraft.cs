using Rovett.Core.Notifications;

namespace Rovett.Core.Rules;

/// <summary>A notification that a rule makes of an event.</summary>
/// <param name="Draft">The notification.</param>
/// <param name="Body">The notification as a send's body: JSON, UTF-8.</param>
/// <param name="IsStored">False for an ephemeral one.</param>
public sealed record RuleDraft(Draft Draft, byte[] Body, bool IsStored)
{
    /// <summary>For a rule that gathers: makes it for a number of events, this one being the newest.</summary>
    /// <exception cref="RuleFailure">It cannot be made for that number.</exception>
    public Func<int, RuleDraft>? ForCount { get; init; }
}

/// <summary>What a matching rule makes of an event.</summary>
/// <param name="Rule">The rule.</param>
/// <param name="Drafts">One, one for each item, or none when there is nobody to tell.</param>
/// <param name="Failure">Why it makes nothing, although it matches; null: it does.</param>
public sealed record RuleResult(Rule Rule, IReadOnlyList<RuleDraft> Drafts, string? Failure);

/// <summary>A rule that cannot make a notification.</summary>
public sealed class RuleFailure(string message) : Exception(message);
