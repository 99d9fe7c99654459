namespace Rovett.Core.Ledgers.Commands.Events;

/// <summary>The result of a retry.</summary>
/// <param name="Number">The number of what was retried.</param>
/// <param name="Reason">Why it failed again; null: it is done, and no longer set aside.</param>
/// <param name="Notifications">The notifications made.</param>
public sealed record RetryResult(long Number, string? Reason, IReadOnlyList<NotificationId> Notifications)
{
    /// <summary>The result of taking an event.</summary>
    /// <param name="number">The number that it was set aside under.</param>
    /// <param name="outcome">What came of it.</param>
    internal static RetryResult Of(long number, EventOutcome outcome) => new(outcome.SetAside ?? number, outcome.WhyFailed,
        [.. outcome.Notifications.Select(n => n.Id), .. outcome.Gatherings.Select(g => g.Id)]);
}
