namespace Rovett.Core.Rules;

/// <summary>How a rule gathers events into one notification.</summary>
/// <param name="Within">How long, from the first event on.</param>
/// <param name="Title">The title for more than one; null: the notification's own.</param>
/// <param name="FirstNow">The first is sent at once, and replaced at the end if more come.</param>
sealed record GatherTerms(TimeSpan Within, TextPart? Title, bool FirstNow);
