using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Marks;

namespace Rovett.Core.Ledger;

/// <summary>What an entry says.</summary>
public enum EntryKind
{
    /// <summary>A notification.</summary>
    Notification = 1,
    /// <summary>A user gained or lost roles.</summary>
    Membership = 2,
}

/// <summary>A stored space.</summary>
public sealed record SpaceRow(int Id, string Name, byte[] Key, long Head, StoredTime LastTime);

/// <summary>A stored log with its newest ordinal and position.</summary>
public sealed record LogRow(long Id, string Key, long Head, long HeadPosition);

/// <summary>Where a notification stands: a log and the ordinal in it.</summary>
public readonly record struct Placement(long Log, long Ordinal);

/// <summary>A stored entry. <see cref="Body"/> is the part of the message that is the same for everybody, without
/// braces; <see cref="Addressing"/> is the full <c>to</c> and <c>except</c>, for backends only.</summary>
public sealed record EntryRow(Position Position, StoredTime Time, EntryKind Kind, NotificationId Id, byte[] Body, string Addressing, Placement[] Placements);

/// <summary>A stored user. <see cref="Seen"/> is null for somebody who was only ever written to.</summary>
public sealed record PersonRow(long Id, string User, StoredTime? Seen, long Rev, long RolesIssuedAt);

/// <summary>One interval in which a user held a role, in positions: after <see cref="After"/>, up to <see cref="Until"/>
/// (null: still).</summary>
public sealed record Membership(string Address, long After, long? Until);

/// <summary>Which marks.</summary>
public enum MarkKind
{
    /// <summary>A device acknowledged it.</summary>
    Received = 1,
    /// <summary>The person saw it.</summary>
    Read = 2,
}

/// <summary>The answer stored for an idempotency key: SHA-256 of the request body, and the notification made.</summary>
public sealed record IdempotencyRow(byte[] BodyHash, NotificationId Id, Position Position);

/// <summary>The store as the ledger sees it: called by one thread only, everything between <see cref="Begin"/> and
/// <see cref="Commit"/> becomes true together or not at all. Every method may throw; the ledger then rolls back.</summary>
public interface ILedgerStore
{
    /// <summary>Opens the transaction of a batch.</summary>
    void Begin();
    /// <summary>Returns once the batch is on disk.</summary>
    void Commit();
    /// <summary>Forgets the batch; must not throw.</summary>
    void Rollback();

    /// <summary>The store's present life.</summary>
    Epoch Epoch { get; }
    /// <summary>A space by its name, or null.</summary>
    SpaceRow? FindSpace(string name);
    /// <summary>Makes a space.</summary>
    SpaceRow AddSpace(string name, byte[] key);

    /// <summary>A log by its key, or null.</summary>
    LogRow? FindLog(int space, string key);
    /// <summary>Makes a log; <paramref name="includes"/> are the addresses by which an audience is found.</summary>
    LogRow AddLog(int space, string key, IReadOnlyList<Address> includes);
    /// <summary>The audience logs that include an address.</summary>
    IReadOnlyList<LogRow> AudiencesOf(int space, Address address);
    /// <summary>The highest ordinal of a log whose position is at most <paramref name="position"/>; 0 when none is.</summary>
    long OrdinalAt(long log, long position);
    /// <summary>The ordinals of a log about a subject.</summary>
    IReadOnlyList<long> OrdinalsAbout(long log, long subjectHash);
    /// <summary>The last position stored at or before a time; 0 when none was.</summary>
    long PositionAt(int space, StoredTime time);

    /// <summary>Writes an entry.</summary>
    void AppendEntry(int space, EntryRow entry);
    /// <summary>Writes a notification's place in a log.</summary>
    void AppendItem(long log, long ordinal, long position, long? subjectHash);
    /// <summary>Leaves one person out of one notification of an audience log.</summary>
    void AddSkip(long log, long person, long ordinal);
    /// <summary>A notification by its id, or null.</summary>
    EntryRow? FindEntry(int space, NotificationId id);

    /// <summary>A user, or null.</summary>
    PersonRow? FindPerson(int space, string user);
    /// <summary>Makes a user.</summary>
    PersonRow AddPerson(int space, string user, StoredTime? seen);
    /// <summary>Stores what changed of a user.</summary>
    void SavePerson(long person, StoredTime? seen, long rev, long rolesIssuedAt);
    /// <summary>Every membership interval of a user, oldest first.</summary>
    IReadOnlyList<Membership> Memberships(long person);
    /// <summary>Opens an interval.</summary>
    void OpenMembership(int space, long person, Membership membership);
    /// <summary>Closes the open interval of an address.</summary>
    void CloseMembership(int space, long person, string address, long until);
    /// <summary>How many users hold an address now.</summary>
    long MembersOf(int space, string address);

    /// <summary>The ordinals of a log that a user is left out of.</summary>
    OrdinalSet Skips(long person, long log);
    /// <summary>A user's marks in a log.</summary>
    OrdinalSet LoadMarks(long person, long log, MarkKind kind);
    /// <summary>Stores what changed of a user's marks in a log.</summary>
    void SaveMarks(long person, long log, MarkKind kind, OrdinalSet marks);
    /// <summary>Stores when, and by which device, a run was marked.</summary>
    void AddRun(long person, long log, MarkKind kind, OrdinalRun run, StoredTime time, string device);
    /// <summary>Forgets when ordinals of a run were marked: they are not any more.</summary>
    void ClearRun(long person, long log, MarkKind kind, OrdinalRun run);

    /// <summary>The stored answer of an idempotency key, or null; older ones than <paramref name="notBefore"/> do not count.</summary>
    IdempotencyRow? FindAnswer(int space, string key, StoredTime notBefore);
    /// <summary>Stores an answer.</summary>
    void AddAnswer(int space, string key, IdempotencyRow answer, StoredTime time);
}
