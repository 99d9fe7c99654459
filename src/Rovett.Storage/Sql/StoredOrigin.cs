namespace Rovett.Storage.Sql;

/// <summary>An event that a notification came of.</summary>
/// <param name="Source">Its source.</param>
/// <param name="Id">Its id.</param>
/// <param name="Rule">The rule that made the notification.</param>
/// <param name="Time">When the event was taken; null: it is no longer kept.</param>
/// <param name="Trace">Its trace, or null.</param>
public sealed record StoredOrigin(string Source, string Id, string Rule, StoredTime? Time, string? Trace);
