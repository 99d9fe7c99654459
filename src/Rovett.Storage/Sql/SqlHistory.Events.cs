using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>Which events of a space are looked for. What is null does not matter.</summary>
public sealed record EventSearch
{
    /// <summary>Only those before this one, by time, source and id.</summary>
    public (StoredTime Time, string Source, string Id)? Before { get; init; }
    /// <summary>At most so many.</summary>
    public required int Limit { get; init; }
    /// <summary>Their type, or how it begins when a <c>*</c> is at the end.</summary>
    public string? Type { get; init; }
    /// <summary>The subject they are about.</summary>
    public string? Subject { get; init; }
}

/// <summary>A page of a search.</summary>
/// <param name="Found">Newest first.</param>
/// <param name="Next">Search before this one for more; null: there is nothing more.</param>
public sealed record EventsFound(IReadOnlyList<EventRow> Found, (StoredTime Time, string Source, string Id)? Next);

/// <summary>Searches events.</summary>
public sealed partial class SqlHistory
{
    /// <summary>Events of a space that were taken, newest first.</summary>
    public EventsFound Events(int space, EventSearch search) => Use(sql =>
    {
        var before = search.Before ?? (new StoredTime(long.MaxValue), "", "");
        var looked = sql.All("SELECT source, id, hash, time, type, subject, trace, outcome, content FROM event WHERE space=?1 AND " +
            "(time, source, id) < (?2, ?3, ?4) ORDER BY time DESC, source DESC, id DESC LIMIT ?5", SqlLedgerStore.ListedEvent,
            (long)space, before.Item1.Micros, before.Item2, before.Item3,
            search.Type is null && search.Subject is null ? search.Limit + 1L : MostEventsLookedAt);
        var found = new List<EventRow>();
        EventRow? last = null;
        foreach (var row in looked)
        {
            if (found.Count == search.Limit) return new EventsFound(found, Place(last!));
            last = row;
            if (Fits(row, search)) found.Add(row);
        }
        return new EventsFound(found, looked.Count == MostEventsLookedAt ? Place(last!) : null);
    });

    const int MostEventsLookedAt = 5_000;

    static (StoredTime, string, string) Place(EventRow row) => (row.Time, row.Source, row.Id);

    static bool Fits(EventRow row, EventSearch search) => (search.Subject is not { } subject || row.Subject == subject)
        && (search.Type is not { } type
        || (type.EndsWith('*') ? row.Type.StartsWith(type[..^1], StringComparison.Ordinal) : row.Type == type));
}
