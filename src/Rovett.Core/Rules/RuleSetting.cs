using Rovett.Core.Notifications;

namespace Rovett.Core.Rules;

/// <summary>What rules take into account beside the event.</summary>
/// <param name="Arrival">When the event came: <c>now</c> for templates.</param>
/// <param name="Zone">The space's time zone.</param>
/// <param name="ReceiptsOf">The receipts kept of a type.</param>
public sealed record RuleSetting(DateTimeOffset Arrival, TimeZoneInfo Zone, Func<string, ReceiptLevel> ReceiptsOf);
