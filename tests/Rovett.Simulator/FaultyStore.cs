using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Policies;
using Rovett.Core.Store;

namespace Rovett.Simulator;

/// <summary>The disk says no.</summary>
sealed class DiskFault : IOException
{
    public DiskFault() : base("The simulated disk failed.") { }
}

/// <summary>A store that fails where the seed says so: at a write, at the commit, or for reads as well. It stores only for the node
/// that serves the space.</summary>
/// <param name="inner">The store.</param>
/// <param name="term">The term that holds.</param>
/// <param name="controls">What is left out, for the simulator to find.</param>
sealed class FaultyStore(ILedgerStore inner, Func<long> term, Controls controls) : ILedgerStore
{
    /// <summary>The only space.</summary>
    const int Main = 1;

    bool wrote;

    /// <summary>Under which this node serves the space.</summary>
    public long Term { get; set; } = term();

    /// <summary>So many more writes succeed; negative: all.</summary>
    public int WritesUntilFault { get; set; } = -1;
    public bool FailCommit { get; set; }

    T Write<T>(Func<T> work)
    {
        wrote = true;
        if (WritesUntilFault == 0) throw new DiskFault();
        if (WritesUntilFault > 0) WritesUntilFault--;
        return work();
    }

    void Write(Action work) => Write(() =>
    {
        work();
        return 0;
    });

    public void Heal()
    {
        WritesUntilFault = -1;
        FailCommit = false;
    }

    public void Begin(bool lasting)
    {
        wrote = false;
        inner.Begin(lasting);
    }

    /// <summary>As the database does at the end of a batch.</summary>
    void Fence(IReadOnlyList<int>? spaces)
    {
        if (Term == term()) return;
        if (spaces is { Count: > 0 } && !(wrote ? controls.WithoutFence : controls.WithoutReadCheck)) throw new DeposedException(Main);
        if (spaces is not { Count: > 0 } && wrote && !controls.WithoutFence) throw new DeposedException(0, isLost: true);
    }

    public void Sync(IReadOnlyList<int>? spaces = null)
    {
        if (FailCommit) throw new DiskFault();
        inner.Sync(spaces);
    }
    public void Commit(IReadOnlyList<int>? spaces = null)
    {
        if (FailCommit) throw new DiskFault();
        Fence(spaces);
        inner.Commit(spaces);
    }
    public void Rollback() => inner.Rollback();
    public bool IsFailure(Exception error) => error is DiskFault || inner.IsFailure(error);
    public Epoch Epoch => inner.Epoch;
    public ClockRow Clock => inner.Clock;
    public void SaveClock(ClockRow clock) => Write(() => inner.SaveClock(clock));
    public void CapStanding(long now, long tolerance) => inner.CapStanding(now, tolerance);
    public void ShiftStanding(long from, long by) => Write(() => inner.ShiftStanding(from, by));
    public DeposedException? Deposed(IReadOnlyList<int> spaces) =>
        Term != term() && spaces.Count > 0 && !controls.WithoutFence ? new DeposedException(Main) : null;
    public IReadOnlyList<int> Changed() => inner.Changed();
    public bool ReadsAhead => inner.ReadsAhead;
    public void ReadAhead(int space, AheadList what) => inner.ReadAhead(space, what);
    public SpaceRow? FindSpace(string name) => inner.FindSpace(name);
    public SpaceRow? TakeSpace(string name) =>
        Term == term() || controls.WithoutFence ? inner.TakeSpace(name) : throw new DeposedException(Main, isLost: true);
    public SpaceRow AddSpace(string name, byte[] key) => Write(() => inner.AddSpace(name, key));
    public void SaveFloor(int space, long floor) => Write(() => inner.SaveFloor(space, floor));
    public LogRow? FindLog(int space, string key) => inner.FindLog(space, key);
    public LogRow? FindLog(long log) => inner.FindLog(log);
    public LogRow AddLog(int space, string key, IReadOnlyList<Address> includes) => Write(() => inner.AddLog(space, key, includes));
    public void SaveLog(LogRow log) => Write(() => inner.SaveLog(log));
    public IReadOnlyList<LogRow> AudiencesOf(int space, Address address) => inner.AudiencesOf(space, address);
    public long OrdinalAt(long log, long position) => inner.OrdinalAt(log, position);
    public IReadOnlyList<long> OrdinalsAbout(long log, long subjectHash, long after, long upTo, int limit) =>
        inner.OrdinalsAbout(log, subjectHash, after, upTo, limit);
    public IReadOnlyList<IReadOnlyList<long>> MutedOrdinals(IReadOnlyList<MutedRange> ranges) => inner.MutedOrdinals(ranges);
    public long PositionAt(int space, StoredTime time) => inner.PositionAt(space, time);
    public void AppendEntry(int space, EntryRow entry) => Write(() => inner.AppendEntry(space, entry));
    public void AppendItem(long log, long ordinal, long position, long? subjectHash, long typeHash) =>
        Write(() => inner.AppendItem(log, ordinal, position, subjectHash, typeHash));
    public void AppendChange(long log, JournalRow change) => Write(() => inner.AppendChange(log, change));
    public IReadOnlyList<JournalRow> ChangesSince(long log, long position, int limit) => inner.ChangesSince(log, position, limit);
    public JournalRow? NewestChange(long log, long position, OrdinalRun ordinals) => inner.NewestChange(log, position, ordinals);
    public void AddSkip(long log, long person, long ordinal) => Write(() => inner.AddSkip(log, person, ordinal));
    public EntryRow? FindNotification(int space, NotificationId id) => inner.FindNotification(space, id);
    public EntryRow? FindEntry(int space, long position) => inner.FindEntry(space, position);
    public IReadOnlyList<EntryRow> Entries(int space, long from, int limit) => inner.Entries(space, from, limit);
    public void RewriteEntry(int space, long position, byte[] body, Addressing addressing) =>
        Write(() => inner.RewriteEntry(space, position, body, addressing));
    public PersonRow? FindPerson(int space, string user) => inner.FindPerson(space, user);
    public PersonRow? FindPerson(long person) => inner.FindPerson(person);
    public PersonRow AddPerson(int space, string user, StoredTime? seen) => Write(() => inner.AddPerson(space, user, seen));
    public void SavePerson(PersonRow person) => Write(() => inner.SavePerson(person));
    public IReadOnlyList<Membership> Memberships(long person) => inner.Memberships(person);
    public void OpenMembership(int space, long person, Membership membership) =>
        Write(() => inner.OpenMembership(space, person, membership));
    public void CloseMembership(int space, long person, string address, long until) =>
        Write(() => inner.CloseMembership(space, person, address, until));
    public long MembersOf(int space, string address) => inner.MembersOf(space, address);
    public IReadOnlyList<(long Person, string User)> Holders(int space, string address, long after, int limit) => inner.Holders(space, address, after, limit);
    public IReadOnlyList<UserLogRow> UserLogs(long person) => inner.UserLogs(person);
    public void SaveUserLog(long person, UserLogRow row) => Write(() => inner.SaveUserLog(person, row));
    public void ForgetUserLogs(long person) => Write(() => inner.ForgetUserLogs(person));
    public OrdinalSet Skips(long person, long log) => inner.Skips(person, log);
    public IBlockSource Blocks(long person, long log, MarkKind kind) => inner.Blocks(person, log, kind);
    public void SaveBlock(long person, long log, MarkKind kind, int block, byte[]? bits, int count) =>
        Write(() => inner.SaveBlock(person, log, kind, block, bits, count));
    public void AddRun(long person, long log, MarkKind kind, OrdinalRun run, StoredTime time, string device) =>
        Write(() => inner.AddRun(person, log, kind, run, time, device));
    public void ClearRun(long person, long log, MarkKind kind, OrdinalRun run) => Write(() => inner.ClearRun(person, log, kind, run));
    public void AddTally(long log, MarkKind kind, long ordinal, long difference) =>
        Write(() => inner.AddTally(log, kind, ordinal, difference));
    public long Tally(long log, MarkKind kind, long ordinal) => inner.Tally(log, kind, ordinal);
    public IdempotencyRow? FindAnswer(int space, string key, StoredTime notBefore) => inner.FindAnswer(space, key, notBefore);
    public void AddAnswer(int space, string key, IdempotencyRow answer, StoredTime time) =>
        Write(() => inner.AddAnswer(space, key, answer, time));
    public void AddDue(int space, DueRow due) => Write(() => inner.AddDue(space, due));
    public void RemoveDue(int space, DueRow due) => Write(() => inner.RemoveDue(space, due));
    public IReadOnlyList<DueRow> Due(int space, StoredTime upTo, int limit) => inner.Due(space, upTo, limit);
    public long SetAside(int space, SetAsideRow row) => Write(() => inner.SetAside(space, row));
    public long? FindSlot(int space, string key) => inner.FindSlot(space, key);
    public void SaveSlot(int space, string key, long position) => Write(() => inner.SaveSlot(space, key, position));
    public TakeRow? FindTake(int space, long position) => inner.FindTake(space, position);
    public IReadOnlyList<TakeRow> TakesOf(long person) => inner.TakesOf(person);
    public IReadOnlyList<long> TakenOf(long log) => inner.TakenOf(log);
    public void AddTake(int space, TakeRow take) => Write(() => inner.AddTake(space, take));
    public void RemoveTake(int space, long position) => Write(() => inner.RemoveTake(space, position));
    public IReadOnlyList<MuteRow> MutesOf(long person) => inner.MutesOf(person);
    public void AddMute(long person, MuteRow mute) => Write(() => inner.AddMute(person, mute));
    public void EndMute(long person, bool isType, string text, long until) => Write(() => inner.EndMute(person, isType, text, until));
    public RoleRow? FindRole(int space, string role) => inner.FindRole(space, role);
    public void SaveRole(int space, RoleRow role) => Write(() => inner.SaveRole(space, role));
    public void SaveDeadline(int space, DeadlineRow deadline) => Write(() => inner.SaveDeadline(space, deadline));
    public IReadOnlyList<DeadlineRow> Deadlines(int space, long position) => inner.Deadlines(space, position);
    public long LastReceipt(int space) => inner.LastReceipt(space);
    public void AppendReceipt(int space, ReceiptRow receipt) => Write(() => inner.AppendReceipt(space, receipt));
    public void TrimLog(long log, long upTo) => Write(() => inner.TrimLog(log, upTo));
    public void TrimEntries(int space, long upTo) => Write(() => inner.TrimEntries(space, upTo));
    public StoredTime? OldestReceipt(int space) => inner.OldestReceipt(space);
    public int TrimReceipts(int space, StoredTime before, int limit) => Write(() => inner.TrimReceipts(space, before, limit));
    public void RewriteReceipt(int space, long number, string detail) => Write(() => inner.RewriteReceipt(space, number, detail));
    public void RemoveSpace(int space) => Write(() => inner.RemoveSpace(space));
    public bool Purge(int limit) => Write(() => inner.Purge(limit));
    public IReadOnlyList<(long Ordinal, long Position)> NewestItems(long log, long after, int limit) =>
        inner.NewestItems(log, after, limit);
    public IReadOnlyList<KeyValuePair<string, long>> Follows(long person) => inner.Follows(person);
    public void AddFollow(long person, string topic, long since) => Write(() => inner.AddFollow(person, topic, since));
    public void RemoveFollow(long person, string topic) => Write(() => inner.RemoveFollow(person, topic));
    public void AddPolicies(int space, PolicyVersion version) => Write(() => inner.AddPolicies(space, version));
    public PolicyVersion? PoliciesAt(int space, long position) => inner.PoliciesAt(space, position);
    public IReadOnlyList<long> PolicyPositions(int space, long after) => inner.PolicyPositions(space, after);
    public long RulesAt(int space) => inner.RulesAt(space);
    public void AddGrant(int space, Grant grant) => Write(() => inner.AddGrant(space, grant));
    public void EndGrant(int space, long number, long ended) => Write(() => inner.EndGrant(space, number, ended));
    public void RemoveGrant(int space, long number) => Write(() => inner.RemoveGrant(space, number));
    public Grant? FindGrant(int space, long number) => inner.FindGrant(space, number);
    public IReadOnlyList<Grant> GrantsOn(int space, string topic, bool endedToo) => inner.GrantsOn(space, topic, endedToo);
    public IReadOnlyList<Grant> Grants(int space, long? person, string? role, string? topic, long after, int limit) =>
        inner.Grants(space, person, role, topic, after, limit);
    public void ErasePerson(long person) => Write(() => inner.ErasePerson(person));
    public IReadOnlyList<ErasureRow> Erasures(int space) => inner.Erasures(space);
    public ErasureRow? FindErasure(int space, string name) => inner.FindErasure(space, name);
    public void SaveErasure(int space, ErasureRow erasure) => Write(() => inner.SaveErasure(space, erasure));
    public void RemoveErasure(int space, long person) => Write(() => inner.RemoveErasure(space, person));
    public void ScrubFreed() => inner.ScrubFreed();
    public long? FindTombstone(int space, byte[] idHash) => inner.FindTombstone(space, idHash);
    public bool HasTombstones(int space) => inner.HasTombstones(space);
    public void SaveTombstone(int space, byte[] idHash, long validFrom, long person) =>
        Write(() => inner.SaveTombstone(space, idHash, validFrom, person));
    public void RemoveTombstone(int space, long person) => Write(() => inner.RemoveTombstone(space, person));
    public IReadOnlyList<(long Position, int Deadline, int Item, Addressing Addressing)> OtherwiseAfter(int space, long after, long upTo,
        int limit) => inner.OtherwiseAfter(space, after, upTo, limit);
    public void RewriteOtherwise(int space, long position, int deadline, int item, Addressing? addressing) =>
        Write(() => inner.RewriteOtherwise(space, position, deadline, item, addressing));
    public void SaveOtherwise(int space, long position, int deadline, OtherwiseRow row) =>
        Write(() => inner.SaveOtherwise(space, position, deadline, row));
    public void EraseOtherwise(int space, long position) => Write(() => inner.EraseOtherwise(space, position));
    public long MailsSince(int space, StoredTime time) => inner.MailsSince(space, time);
    public void AddCatalogue(int space, RulesVersion version) => Write(() => inner.AddCatalogue(space, version));
    public RulesVersion? CatalogueUpTo(int space, long position) => inner.CatalogueUpTo(space, position);
    public long AddOutbound(int space, OutboundRow row) => Write(() => inner.AddOutbound(space, row));
    public IReadOnlyList<OutboundRow> OutboundDue(int space, StoredTime upTo, int limit) => inner.OutboundDue(space, upTo, limit);
    public StoredTime? NextOutbound(int space) => inner.NextOutbound(space);
    public OutboundRow? FindOutbound(int space, long number) => inner.FindOutbound(space, number);
    public void SaveOutbound(int space, OutboundRow row) => Write(() => inner.SaveOutbound(space, row));
    public void RemoveOutbound(int space, long number) => Write(() => inner.RemoveOutbound(space, number));
    public IReadOnlyList<OutboundRow> OutboundAfter(int space, long number, int limit) => inner.OutboundAfter(space, number, limit);
    public IReadOnlyList<(long Position, string Key)> SlotsAfter(int space, long after, long upTo, int limit) =>
        inner.SlotsAfter(space, after, upTo, limit);
    public void RemoveSlot(int space, string key) => Write(() => inner.RemoveSlot(space, key));
    public IReadOnlyList<(long Number, string Detail)> SetAsideAfter(int space, long after, int limit) =>
        inner.SetAsideAfter(space, after, limit);
    public void RewriteSetAside(long number, string detail) => Write(() => inner.RewriteSetAside(number, detail));
    public IReadOnlyList<(long Ordinal, long Position)> ItemsAfter(long log, long after, int limit) => inner.ItemsAfter(log, after, limit);
    public void EraseItems(long log) => Write(() => inner.EraseItems(log));
    public IReadOnlyList<(long Log, long Ordinal, long Position)> SkipsOf(long person, int limit) => inner.SkipsOf(person, limit);
    public void RemoveSkip(long person, long log, long ordinal) => Write(() => inner.RemoveSkip(person, log, ordinal));
    public void ForgetDevices(int space, long person, long after, long upTo) =>
        Write(() => inner.ForgetDevices(space, person, after, upTo));
    public IReadOnlyList<(long Number, string Detail)> ReceiptDetails(int space, long after, long upTo) =>
        inner.ReceiptDetails(space, after, upTo);
    public void EraseEntry(int space, long position, byte[] body, Addressing addressing) =>
        Write(() => inner.EraseEntry(space, position, body, addressing));
    public IReadOnlyList<EntryRow> ActsIn(int space, long after, long upTo) => inner.ActsIn(space, after, upTo);
    public IReadOnlyList<IntakePosition> IntakePositions(int space, string intake) => inner.IntakePositions(space, intake);
    public void SaveIntakePosition(int space, string intake, IntakePosition position) =>
        Write(() => inner.SaveIntakePosition(space, intake, position));
    public bool IsIntakePaused(int space, string intake) => inner.IsIntakePaused(space, intake);
    public void SaveIntakePaused(int space, string intake, bool isPaused) => Write(() => inner.SaveIntakePaused(space, intake, isPaused));
    public bool IsSetAside(int space, string origin) => inner.IsSetAside(space, origin);
    public EventRow? FindEvent(int space, string source, string id) => inner.FindEvent(space, source, id);
    public void SaveEvent(int space, EventRow row) => Write(() => inner.SaveEvent(space, row));
    public IReadOnlyList<EventRow> EventsAfter(int space, StoredTime time, int limit) => inner.EventsAfter(space, time, limit);
    public void RewriteEvent(int space, EventRow row) => Write(() => inner.RewriteEvent(space, row));
    public void AddOrigin(int space, NotificationId notification, string source, string eventId, string rule) =>
        Write(() => inner.AddOrigin(space, notification, source, eventId, rule));
    public int TrimEvents(int space, StoredTime before, int limit) => Write(() => inner.TrimEvents(space, before, limit));
    public void TrimOrigins(int space, NotificationId below) => Write(() => inner.TrimOrigins(space, below));
    public void AddRules(int space, RulesVersion version) => Write(() => inner.AddRules(space, version));
    public RulesVersion? RulesUpTo(int space, long position) => inner.RulesUpTo(space, position);
    public GatheringRow? FindGathering(int space, byte[] key) => inner.FindGathering(space, key);
    public GatheringRow? FindGathering(int space, long number) => inner.FindGathering(space, number);
    public GatheringRow? FindGathering(int space, NotificationId id) => inner.FindGathering(space, id);
    public long AddGathering(int space, GatheringRow row) => Write(() => inner.AddGathering(space, row));
    public void SaveGathering(int space, GatheringRow row) => Write(() => inner.SaveGathering(space, row));
    public void RemoveGathering(int space, long number) => Write(() => inner.RemoveGathering(space, number));
    public IReadOnlyList<GatheringRow> GatheringsAfter(int space, long number, int limit) => inner.GatheringsAfter(space, number, limit);
    public long NewestGathering() => inner.NewestGathering();
    public long CountGatherings(int space) => inner.CountGatherings(space);
    public SetAsideRow? FindSetAside(int space, long number) => inner.FindSetAside(space, number);
    public void RemoveSetAside(int space, long number) => Write(() => inner.RemoveSetAside(space, number));
    public (long Count, long Size) SetAsideSize(int space) => inner.SetAsideSize(space);
}
