using Rovett.Core.Notifications;

namespace Rovett.Core.Rules;

/// <summary>What rules take into account beside the event.</summary>
/// <param name="Arrival">When the event came: <c>now</c> for templates.</param>
/// <param name="Zone">The space's time zone.</param>
/// <param name="TermsOf">What holds for a type of notification.</param>
public sealed record RuleSetting(DateTimeOffset Arrival, TimeZoneInfo Zone, Func<string, TypeTerms> TermsOf);
