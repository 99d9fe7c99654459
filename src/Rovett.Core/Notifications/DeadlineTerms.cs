namespace Rovett.Core.Notifications;

/// <summary>The state a notification must reach, for whom, within what time.</summary>
/// <param name="By">Received, handled, read or taken.</param>
/// <param name="Within">After it was stored.</param>
/// <param name="Each">For each who may see it when the time is up; otherwise for anyone.</param>
/// <param name="Otherwise">What is sent when it is missed; null: nothing.</param>
public sealed record DeadlineTerms(ReceiptState By, TimeSpan Within, bool Each, Draft? Otherwise);
