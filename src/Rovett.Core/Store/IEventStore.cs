using Rovett.Core.Notifications;

namespace Rovett.Core.Store;

/// <summary>Events, gatherings and rules. Part of <see cref="ILedgerStore"/>.</summary>
public interface IEventStore
{
    /// <summary>An event that was taken, or null.</summary>
    EventRow? FindEvent(int space, string source, string id);
    /// <summary>Stores an event, or its new outcome.</summary>
    void SaveEvent(int space, EventRow row);
    /// <summary>Events taken after a time, in the order of their times: at least a number of them, if there are as many, and all of
    /// the last one's time.</summary>
    IReadOnlyList<EventRow> EventsAfter(int space, StoredTime time, int limit);
    /// <summary>Stores another subject and content of an event.</summary>
    void RewriteEvent(int space, EventRow row);
    /// <summary>Notes that a notification came of an event.</summary>
    void AddOrigin(int space, NotificationId notification, string source, string eventId, string rule);
    /// <summary>Removes events taken before a time, at most a number of them.</summary>
    /// <returns>How many.</returns>
    int TrimEvents(int space, StoredTime before, int limit);
    /// <summary>Removes the origins of notifications with ids below one.</summary>
    void TrimOrigins(int space, NotificationId below);
    /// <summary>Stores a version of the rules, by the position of its entry.</summary>
    void AddRules(int space, RulesVersion version);
    /// <summary>The newest version at or before a position, or null.</summary>
    RulesVersion? RulesUpTo(int space, long position);
    /// <summary>Stores a version of the catalogue, by the position of its entry.</summary>
    void AddCatalogue(int space, RulesVersion version);
    /// <summary>The newest version at or before a position, or null.</summary>
    RulesVersion? CatalogueUpTo(int space, long position);
    /// <summary>The open gathering with a key, or null.</summary>
    GatheringRow? FindGathering(int space, byte[] key);
    /// <summary>An open gathering by its number, or null.</summary>
    GatheringRow? FindGathering(int space, long number);
    /// <summary>The open gathering that an id was drawn for, or null.</summary>
    GatheringRow? FindGathering(int space, NotificationId id);
    /// <summary>Opens a gathering.</summary>
    /// <returns>Its number.</returns>
    long AddGathering(int space, GatheringRow row);
    /// <summary>Stores what changed of a gathering.</summary>
    void SaveGathering(int space, GatheringRow row);
    /// <summary>Removes a gathering.</summary>
    void RemoveGathering(int space, long number);
    /// <summary>Open gatherings after a number.</summary>
    IReadOnlyList<GatheringRow> GatheringsAfter(int space, long number, int limit);
    /// <summary>The highest number of an open gathering, in any space; 0: none is open.</summary>
    long NewestGathering();
    /// <summary>How many gatherings are open.</summary>
    long CountGatherings(int space);
    /// <summary>Something that was set aside, or null.</summary>
    SetAsideRow? FindSetAside(int space, long number);
    /// <summary>Removes something that was set aside.</summary>
    void RemoveSetAside(int space, long number);
    /// <summary>How much is set aside: rows, and characters of their details.</summary>
    (long Count, long Size) SetAsideSize(int space);
}

/// <summary>A stored event.</summary>
/// <param name="Source">Its source.</param>
/// <param name="Id">Its id.</param>
/// <param name="Hash">SHA-256 of its content.</param>
/// <param name="Time">When it was taken.</param>
/// <param name="Type">Its type.</param>
/// <param name="Subject">The subject it is about, or null.</param>
/// <param name="Trace">Its trace (<c>traceparent</c>), or null.</param>
/// <param name="Outcome">What came of it, as JSON.</param>
public sealed record EventRow(string Source, string Id, byte[] Hash, StoredTime Time, string Type, string? Subject, string? Trace,
    byte[] Outcome)
{
    /// <summary>The event as it came; null: it is not kept.</summary>
    public byte[]? Content { get; init; }
}

/// <summary>A stored version of a space's rules, or of its catalogue.</summary>
/// <param name="Position">The entry that loaded it.</param>
/// <param name="Time">When.</param>
/// <param name="Document">As it was loaded: YAML or JSON.</param>
public sealed record RulesVersion(long Position, StoredTime Time, byte[] Document);

/// <summary>An open gathering.</summary>
/// <param name="Number">Its number.</param>
/// <param name="Key">SHA-256 of rule, addresses and subject.</param>
/// <param name="Id">The id of the notification that closes it.</param>
/// <param name="Rule">The rule's name.</param>
/// <param name="Events">How many events are in it.</param>
/// <param name="Closes">The due time at which it closes.</param>
/// <param name="Body">The newest draft, as a send's body.</param>
/// <param name="ExceptToo">Exceptions of all its events, a line each.</param>
/// <param name="Receipts">The receipts kept of its notification.</param>
/// <param name="First">The position of the first event's notification, when it was sent at once.</param>
public sealed record GatheringRow(long Number, byte[] Key, NotificationId Id, string Rule, int Events, StoredTime Closes, byte[] Body,
    string ExceptToo, ReceiptLevel Receipts, long? First);
