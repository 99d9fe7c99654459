using System.Text.Json;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>Which notifications of a space are looked for. What is null does not matter.</summary>
public sealed record NotificationSearch
{
    /// <summary>Only those before this position.</summary>
    public long Before { get; init; } = long.MaxValue;
    /// <summary>At most so many.</summary>
    public required int Limit { get; init; }
    /// <summary>Their type, or how it begins when a <c>*</c> is at the end.</summary>
    public string? Type { get; init; }
    /// <summary>An address that they were sent to.</summary>
    public string? Address { get; init; }
    /// <summary>The subject they are about.</summary>
    public string? Subject { get; init; }
    /// <summary>A text in their title or body, in upper or lower case.</summary>
    public string? Text { get; init; }
    /// <summary>The last change to them; <see cref="EntryKind.Notification"/>: unchanged.</summary>
    public EntryKind? State { get; init; }
    /// <summary>Only those stored at this time or later.</summary>
    public StoredTime? Since { get; init; }
    /// <summary>Only those stored before this time.</summary>
    public StoredTime? Until { get; init; }
}

/// <summary>A notification in a list.</summary>
/// <param name="Item">It, with how many people have it in each state.</param>
/// <param name="Change">The last change to it; null: unchanged, or taken and given back.</param>
/// <param name="For">How many people its addresses stand for now.</param>
public sealed record ListedNotification(OperatorItem Item, EntryKind? Change, long For);

/// <summary>A page of a search.</summary>
/// <param name="Found">Newest first.</param>
/// <param name="Next">Search before this position for more; null: there is nothing more.</param>
public sealed record NotificationPage(IReadOnlyList<ListedNotification> Found, long? Next);

/// <summary>Searches notifications.</summary>
public sealed partial class SqlHistory
{
    /// <summary>A search looks at no more positions than this; what it has found by then is a page.</summary>
    public const int MostLookedAt = 50_000;

    const int Window = 2_000;

    /// <summary>Notifications of a space, newest first.</summary>
    public NotificationPage Search(int space, NotificationSearch search) => Use(sql =>
    {
        long lowest = sql.Number("SELECT floor FROM space WHERE id=?1", (long)space) ?? 0;
        long before = Math.Min(search.Before, Rows.PositionOf(sql.Number("SELECT key FROM entry WHERE key>=?1 AND key<=?2 ORDER BY key " +
            "DESC LIMIT 1", Rows.First(space), Rows.Last(space)) ?? Rows.First(space)) + 1);
        long LastBefore(StoredTime time) =>
            SqlLedgerStore.PositionAt(sql, space, lowest, before - 1, new StoredTime(time.Micros - 1));
        if (search.Until is { } until) before = Math.Min(before, LastBefore(until) + 1);
        if (search.Since is { } since) lowest = LastBefore(since);
        var found = new List<EntryRow>();
        var states = new Dictionary<long, EntryKind?>();
        for (long looked = 0; before > lowest + 1 && found.Count < search.Limit && looked < MostLookedAt; looked += Window)
        {
            long from = Math.Max(lowest + 1, before - Window);
            bool isFull = false;
            foreach (var entry in WindowOf(sql, space, from, before, search))
            {
                if (!Fits(sql, entry, search, states)) continue;
                found.Add(entry);
                if (found.Count < search.Limit) continue;
                before = entry.Position.Value;
                isFull = true;
                break;
            }
            if (!isFull) before = from;
        }
        var members = new Dictionary<string, long>();
        return new NotificationPage([.. found.Select(e => Listed(sql, space, e, states, members))], before > lowest + 1 ? before : null);
    });

    static List<EntryRow> WindowOf(ISql sql, int space, long from, long before, NotificationSearch search)
    {
        var where = Rows.SelectEntry + " WHERE key>=?1 AND key<?2 AND kind=1";
        var values = new List<object?> { Rows.Key(space, from), Rows.Key(space, before) };
        void And(string condition, string value)
        {
            values.Add(value);
            where += " AND " + condition.Replace("?", "?" + values.Count, StringComparison.Ordinal);
        }
        if (search.Type is { } type && type.EndsWith('*')) And("substr(type, 1, length(?))=?", type[..^1]);
        else if (search.Type is { } exact) And("type=?", exact);
        if (search.Subject is { } subject) And("subject=?", subject);
        return sql.All(where + " ORDER BY key DESC", Rows.Entry, [.. values]);
    }

    static bool Fits(ISql sql, EntryRow entry, NotificationSearch search, Dictionary<long, EntryKind?> states)
    {
        if (search.Address is { } address && !entry.Addressing.To.Contains(address)) return false;
        if (search.Text is { } text && !Says(entry.Body, text)) return false;
        if (search.State is not { } state) return true;
        var current = states[entry.Position.Value] = CurrentChange(sql, entry);
        return state == (current ?? EntryKind.Notification);
    }

    static bool Says(byte[] body, string text)
    {
        using var members = JsonDocument.Parse((byte[])[(byte)'{', .. body, (byte)'}']);
        return In("title") || In("body");

        bool In(string name) => members.RootElement.TryGetProperty(name, out var value)
            && value.GetString()!.Contains(text, StringComparison.OrdinalIgnoreCase);
    }

    static ListedNotification Listed(ISql sql, int space, EntryRow entry, Dictionary<long, EntryKind?> states,
        Dictionary<string, long> members)
    {
        if (!states.TryGetValue(entry.Position.Value, out var state)) state = CurrentChange(sql, entry);
        var item = new OperatorItem(entry, People(sql, entry.Placements));
        if (state == EntryKind.Taken) item = item with { Taken = TakerOf(sql, space, entry) };
        long people = 0;
        foreach (var address in entry.Addressing.To)
        {
            if (address.StartsWith("user:", StringComparison.Ordinal))
            {
                people++;
                continue;
            }
            if (!members.TryGetValue(address, out long holders))
            {
                holders = sql.Number("SELECT members FROM address WHERE space=?1 AND address=?2", (long)space, address) ?? 0;
                members[address] = holders;
            }
            people += holders;
        }
        return new ListedNotification(item, state, Math.Max(people, item.People.Received));
    }
}
