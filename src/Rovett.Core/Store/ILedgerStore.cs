using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Policies;

namespace Rovett.Core.Store;

/// <summary>The store as the ledger sees it: called by one thread only, everything between <see cref="Begin"/> and
/// <see cref="Commit"/> becomes true together or not at all. Every method may throw; the ledger then rolls back.</summary>
public interface ILedgerStore : IMarkSource
{
    /// <summary>Opens the transaction of a batch.</summary>
    /// <param name="lasting">False: its commit does not wait for the disk. A crash of the process does not lose it, a
    /// power cut may, until <see cref="Sync"/> or the next commit that lasts.</param>
    void Begin(bool lasting = true);
    /// <summary>Returns once the batch is on disk, unless it was begun otherwise.</summary>
    void Commit();
    /// <summary>Returns once everything committed before is on disk.</summary>
    void Sync();
    /// <summary>Forgets the batch; must not throw.</summary>
    void Rollback();
    /// <summary>Whether something thrown means that the store can't be read or written now. Anything else is a bug.</summary>
    bool IsFailure(Exception error);

    /// <summary>The store's present life.</summary>
    Epoch Epoch { get; }
    /// <summary>What was stored of the clock last.</summary>
    ClockRow Clock { get; }
    /// <summary>Stores what is known of the clock.</summary>
    void SaveClock(ClockRow clock);
    /// <summary>Moves every sign-out that was noted at <paramref name="from"/> or later, also of erased people; after a
    /// step back also the issue of the newest token that told roles. In all spaces; microseconds.</summary>
    void ShiftStanding(long from, long by);
    /// <summary>Puts every sign-out, also of erased people, and every issue of a token that told roles, to
    /// <paramref name="now"/> that lies ahead of it by more than <paramref name="tolerance"/>. In all spaces;
    /// microseconds.</summary>
    void CapStanding(long now, long tolerance);
    /// <summary>A space by its name, or null.</summary>
    SpaceRow? FindSpace(string name);
    /// <summary>Makes a space.</summary>
    SpaceRow AddSpace(string name, byte[] key);
    /// <summary>Stores up to where entries are gone.</summary>
    void SaveFloor(int space, long floor);

    /// <summary>A log by its key, or null.</summary>
    LogRow? FindLog(int space, string key);
    /// <summary>A log by its number, or null.</summary>
    LogRow? FindLog(long log);
    /// <summary>Makes a log; <paramref name="includes"/> are the addresses by which an audience is found.</summary>
    LogRow AddLog(int space, string key, IReadOnlyList<Address> includes);
    /// <summary>Stores a log's key, head, and what retention took of it.</summary>
    void SaveLog(LogRow log);
    /// <summary>The audience logs that include an address.</summary>
    IReadOnlyList<LogRow> AudiencesOf(int space, Address address);
    /// <summary>The highest ordinal of a log whose position is at most <paramref name="position"/>; 0 when none is.</summary>
    long OrdinalAt(long log, long position);
    /// <summary>The ordinals of a log in (<paramref name="after"/>, <paramref name="upTo"/>] about a subject: the
    /// lowest of them, at most <paramref name="limit"/>.</summary>
    IReadOnlyList<long> OrdinalsAbout(long log, long subjectHash, long after, long upTo, int limit = int.MaxValue);
    /// <summary>The ordinals of a log in (<paramref name="after"/>, <paramref name="upTo"/>] of a type. Looks at each.</summary>
    IReadOnlyList<long> OrdinalsOfType(long log, long typeHash, long after, long upTo);
    /// <summary>The last position stored at or before a time; 0 when none was.</summary>
    long PositionAt(int space, StoredTime time);

    /// <summary>Writes an entry.</summary>
    void AppendEntry(int space, EntryRow entry);
    /// <summary>Writes a notification's place in a log.</summary>
    void AppendItem(long log, long ordinal, long position, long? subjectHash, long typeHash);
    /// <summary>Writes a change of one notification in one log.</summary>
    void AppendChange(long log, JournalRow change);
    /// <summary>The changes of a log after a position, oldest first.</summary>
    IReadOnlyList<JournalRow> ChangesSince(long log, long position, int limit);
    /// <summary>The newest change of a log after a position that is about an ordinal of a range; null when there is none.</summary>
    JournalRow? NewestChange(long log, long position, OrdinalRun ordinals);
    /// <summary>Leaves one person out of one notification of an audience log.</summary>
    void AddSkip(long log, long person, long ordinal);
    /// <summary>A notification by its id, or null.</summary>
    EntryRow? FindNotification(int space, NotificationId id);
    /// <summary>An entry by its position, or null.</summary>
    EntryRow? FindEntry(int space, long position);
    /// <summary>The entries from a position on, in order.</summary>
    IReadOnlyList<EntryRow> Entries(int space, long from, int limit);
    /// <summary>Rewrites the text of an entry (a person is erased).</summary>
    void RewriteEntry(int space, long position, byte[] body, string addressing);
    /// <summary>The same, and forgets its type and subject.</summary>
    void EraseEntry(int space, long position, byte[] body, string addressing);
    /// <summary>Entries in positions (<paramref name="after"/>, <paramref name="upTo"/>] that say who took something
    /// over or missed a deadline.</summary>
    IReadOnlyList<EntryRow> ActsIn(int space, long after, long upTo);

    /// <summary>A user, or null.</summary>
    PersonRow? FindPerson(int space, string user);
    /// <summary>A user by the store's number, or null.</summary>
    PersonRow? FindPerson(long person);
    /// <summary>Makes a user.</summary>
    PersonRow AddPerson(int space, string user, StoredTime? seen);
    /// <summary>Stores a user.</summary>
    void SavePerson(PersonRow person);
    /// <summary>Every membership interval of a user, oldest first.</summary>
    IReadOnlyList<Membership> Memberships(long person);
    /// <summary>Opens an interval.</summary>
    void OpenMembership(int space, long person, Membership membership);
    /// <summary>Closes the open interval of an address.</summary>
    void CloseMembership(int space, long person, string address, long until);
    /// <summary>How many users hold an address now; −1 when nobody ever did.</summary>
    long MembersOf(int space, string address);
    /// <summary>The users who hold an address now, by their numbers, after one.</summary>
    IReadOnlyList<long> Holders(int space, string address, long after, int limit);

    /// <summary>What is stored of a user in each log.</summary>
    IReadOnlyList<UserLogRow> UserLogs(long person);
    /// <summary>Stores a user's row of a log.</summary>
    void SaveUserLog(long person, UserLogRow row);
    /// <summary>The user's memberships changed: nothing computed from them holds any more.</summary>
    void ForgetUserLogs(long person);
    /// <summary>Stores a block, or removes it when <paramref name="bits"/> is null.</summary>
    void SaveBlock(long person, long log, MarkKind kind, int block, byte[]? bits, int count);
    /// <summary>Stores when, and by which device, a run was marked.</summary>
    void AddRun(long person, long log, MarkKind kind, OrdinalRun run, StoredTime time, string device);
    /// <summary>Forgets when ordinals of a run were marked: they are not any more.</summary>
    void ClearRun(long person, long log, MarkKind kind, OrdinalRun run);
    /// <summary>Adds to the difference at an ordinal of how many people have marked what (the sum up to an ordinal is its count).</summary>
    void AddTally(long log, MarkKind kind, long ordinal, long difference);
    /// <summary>How many people have marked an ordinal.</summary>
    long Tally(long log, MarkKind kind, long ordinal);

    /// <summary>The stored answer of an idempotency key, or null; older ones than <paramref name="notBefore"/> do not count.</summary>
    IdempotencyRow? FindAnswer(int space, string key, StoredTime notBefore);
    /// <summary>Stores an answer.</summary>
    void AddAnswer(int space, string key, IdempotencyRow answer, StoredTime time);

    /// <summary>Notes what is due.</summary>
    void AddDue(int space, DueRow due);
    /// <summary>It is done, or void.</summary>
    void RemoveDue(int space, DueRow due);
    /// <summary>What is due up to a time, the earliest first.</summary>
    IReadOnlyList<DueRow> Due(int space, StoredTime upTo, int limit);
    /// <summary>Sets something aside.</summary>
    void SetAside(int space, SetAsideRow row);
    /// <summary>The position of the notification in a slot, or null.</summary>
    long? FindSlot(int space, string key);
    /// <summary>Puts a notification into a slot.</summary>
    void SaveSlot(int space, string key, long position);
    /// <summary>Who has taken a notification, or null.</summary>
    TakeRow? FindTake(int space, long position);
    /// <summary>What a user has taken.</summary>
    IReadOnlyList<TakeRow> TakesOf(long person);
    /// <summary>The taken ordinals of a log.</summary>
    IReadOnlyList<long> TakenOf(long log);
    /// <summary>Stores a taking.</summary>
    void AddTake(int space, TakeRow take);
    /// <summary>Removes a taking.</summary>
    void RemoveTake(int space, long position);
    /// <summary>A user's mutes, ended ones too.</summary>
    IReadOnlyList<MuteRow> MutesOf(long person);
    /// <summary>Stores a mute.</summary>
    void AddMute(long person, MuteRow mute);
    /// <summary>Ends the open mute of a type or subject.</summary>
    void EndMute(long person, bool isType, string text, long until);
    /// <summary>What a role is set to, or null.</summary>
    RoleRow? FindRole(int space, string role);
    /// <summary>Stores what a role is set to.</summary>
    void SaveRole(int space, RoleRow role);
    /// <summary>Stores a deadline.</summary>
    void SaveDeadline(int space, DeadlineRow deadline);
    /// <summary>The deadlines of a notification.</summary>
    IReadOnlyList<DeadlineRow> Deadlines(int space, long position);
    /// <summary>The number of the newest receipt; 0 when there is none.</summary>
    long LastReceipt(int space);
    /// <summary>Writes a receipt.</summary>
    void AppendReceipt(int space, ReceiptRow receipt);

    /// <summary>Removes what a log holds up to an ordinal: places, skips, marks' runs.</summary>
    void TrimLog(long log, long upTo);
    /// <summary>Removes entries up to a position, with what hangs on them: changes, takings, slots, deadlines, dues.</summary>
    void TrimEntries(int space, long upTo);
    /// <summary>Gives a receipt another detail.</summary>
    void RewriteReceipt(int space, long number, string detail);
    /// <summary>Removes receipts older than a time, at most a number of them.</summary>
    /// <returns>How many went.</returns>
    int TrimReceipts(int space, StoredTime before, int limit);
    /// <summary>Removes everything a person has marked, muted or followed, and the person's grants.</summary>
    void ErasePerson(long person);
    /// <summary>The erasures under way, oldest first.</summary>
    IReadOnlyList<ErasureRow> Erasures(int space);
    /// <summary>The erasure of an id that is under way, or null.</summary>
    ErasureRow? FindErasure(int space, string name);
    /// <summary>Stores an erasure.</summary>
    void SaveErasure(int space, ErasureRow erasure);
    /// <summary>An erasure is done.</summary>
    void RemoveErasure(int space, long person);
    /// <summary>Has the store overwrite what was freed, where it keeps that: soon, and at the latest when it is closed.</summary>
    void ScrubFreed();
    /// <summary>From when on credentials of an erased id hold; null: nobody was erased by that id.</summary>
    long? FindTombstone(int space, byte[] idHash);
    /// <summary>Whether a space has any.</summary>
    bool HasTombstones(int space);
    /// <summary>Stores one, in place of another of the same id.</summary>
    void SaveTombstone(int space, byte[] idHash, long validFrom, long person);
    /// <summary>Removes the one of a person.</summary>
    void RemoveTombstone(int space, long person);
    /// <summary>What deadlines of notifications in (<paramref name="after"/>, <paramref name="upTo"/>] are to send
    /// otherwise: to whom.</summary>
    IReadOnlyList<(long Position, int Number, string Addressing)> OtherwiseAfter(int space, long after, long upTo, int limit);
    /// <summary>Gives it another addressing; null: nothing is sent.</summary>
    void RewriteOtherwise(int space, long position, int number, string? addressing);
    /// <summary>Slots with what was put there in (<paramref name="after"/>, <paramref name="upTo"/>].</summary>
    IReadOnlyList<(long Position, string Key)> SlotsAfter(int space, long after, long upTo, int limit);
    /// <summary>Empties a slot.</summary>
    void RemoveSlot(int space, string key);
    /// <summary>What was set aside after a number.</summary>
    IReadOnlyList<(long Number, string Detail)> SetAsideAfter(int space, long after, int limit);
    /// <summary>Gives it another detail.</summary>
    void RewriteSetAside(long number, string detail);
    /// <summary>A log's notifications after an ordinal, oldest first.</summary>
    IReadOnlyList<(long Ordinal, long Position)> ItemsAfter(long log, long after, int limit);
    /// <summary>Forgets the types and subjects of all notifications of a log.</summary>
    void EraseItems(long log);
    /// <summary>Some notifications that a person is left out of by name; position 0: not stored any more.</summary>
    IReadOnlyList<(long Log, long Ordinal, long Position)> SkipsOf(long person, int limit);
    /// <summary>Forgets that a person is left out of one.</summary>
    void RemoveSkip(long person, long log, long ordinal);
    /// <summary>Forgets the devices in a person's receipts in numbers (<paramref name="after"/>, <paramref name="upTo"/>].</summary>
    void ForgetDevices(int space, long person, long after, long upTo);
    /// <summary>The details of receipts in numbers (<paramref name="after"/>, <paramref name="upTo"/>] that have any.</summary>
    IReadOnlyList<(long Number, string Detail)> ReceiptDetails(int space, long after, long upTo);

    /// <summary>Removes a space: nobody finds it any more; <see cref="Purge"/> lets go what it stored.</summary>
    void RemoveSpace(int space);
    /// <summary>Lets go a bounded part of what removed spaces stored.</summary>
    /// <returns>False when nothing is left of them.</returns>
    bool Purge(int limit);
    /// <summary>The newest notifications of a log after an ordinal, newest first.</summary>
    IReadOnlyList<(long Ordinal, long Position)> NewestItems(long log, long after, int limit);
    /// <summary>The topics a user follows, with the position from which on.</summary>
    IReadOnlyList<KeyValuePair<string, long>> Follows(long person);
    /// <summary>A user follows a topic.</summary>
    void AddFollow(long person, string topic, long since);
    /// <summary>A user follows a topic no more.</summary>
    void RemoveFollow(long person, string topic);
    /// <summary>Stores a version of the policies, by the position of its entry.</summary>
    void AddPolicies(int space, PolicyVersion version);
    /// <summary>The newest version at or before a position, or null.</summary>
    PolicyVersion? PoliciesAt(int space, long position);
    /// <summary>The positions of the versions after a position, oldest first.</summary>
    IReadOnlyList<long> PolicyPositions(int space, long after);
    /// <summary>The position of the newest change of policies or of a role's grant; 0 when there was none.</summary>
    long RulesAt(int space);
    /// <summary>Stores a grant.</summary>
    void AddGrant(int space, Grant grant);
    /// <summary>Ends a grant; it is kept for as long as what was sent while it held.</summary>
    void EndGrant(int space, long number, long ended);
    /// <summary>Removes a grant that another takes the place of.</summary>
    void RemoveGrant(int space, long number);
    /// <summary>A grant, ended or not, or null.</summary>
    Grant? FindGrant(int space, long number);
    /// <summary>The grants on a topic.</summary>
    /// <param name="space">The space.</param>
    /// <param name="topic">The topic.</param>
    /// <param name="endedToo">Also those that have ended.</param>
    IReadOnlyList<Grant> GrantsOn(int space, string topic, bool endedToo);
    /// <summary>Grants that have not ended, oldest first.</summary>
    /// <param name="space">The space.</param>
    /// <param name="person">Of this user; null: anybody's.</param>
    /// <param name="role">Of this role; null: any.</param>
    /// <param name="topic">On this topic; null: any.</param>
    /// <param name="after">With higher numbers than this.</param>
    /// <param name="limit">The most.</param>
    IReadOnlyList<Grant> Grants(int space, long? person, string? role, string? topic, long after, int limit);
}
