namespace Rovett.Core.Notifications;

/// <summary>The state a notification must reach, for whom, within what time.</summary>
/// <param name="By">Received, handled, read or taken.</param>
/// <param name="Within">After it was stored.</param>
/// <param name="Each">True: every recipient must reach the state. False: one of them is enough.</param>
/// <param name="Otherwise">A notification to send when it is missed; null: none.</param>
public sealed record DeadlineTerms(ReceiptState By, TimeSpan Within, bool Each, Draft? Otherwise);
