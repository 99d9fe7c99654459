namespace Rovett.Core.Marks;

/// <summary>Which notifications to mark: exactly one of the four is given.</summary>
/// <param name="Ids">These.</param>
/// <param name="UpTo">Everything up to this position, with the cursor it came as.</param>
/// <param name="Subject">Everything about this subject.</param>
/// <param name="All">Everything.</param>
public sealed record MarkSelector(IReadOnlyList<NotificationId>? Ids, (Position Position, string Cursor)? UpTo, string? Subject, bool All);
