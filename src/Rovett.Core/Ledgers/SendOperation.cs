using Rovett.Core.Addresses;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>Stores one notification and offers it to connected recipients.</summary>
sealed class SendOperation(Ledger ledger, SpaceState state, Draft draft)
{
    readonly List<UserState> passedBy = [];
    readonly List<(AddressLog Log, long Ordinal)> places = [];

    /// <summary>The id that was drawn for it before; none: one is drawn.</summary>
    public NotificationId Id { get; init; }

    /// <summary>Refuses what cannot be stored, before anything is.</summary>
    /// <exception cref="ProblemException">An audience is one too many.</exception>
    public AddressLog? Check()
    {
        var audience = Audience.Of(draft.To, draft.Except.Where(a => a.Kind != AddressKind.User));
        var audienceLog = audience is null ? null : state.AudienceLog(audience);
        ReserveOtherwise();
        return audienceLog;
    }

    public SendResult Store(List<Reach> reach)
    {
        var store = ledger.Store;
        var traits = draft.Traits;
        var audienceLog = Check();
        var attending = state.Connected.Attending(traits.Subject);
        // It is in one log and changes nothing else in memory, so it can be offered together with its neighbours.
        bool alone = draft.Slot is null && attending.Count == 0 && !draft.To.Concat(draft.Except).Any(a => a.Kind == AddressKind.User);
        if (!alone) ledger.FanOut.Flush();
        var id = Id == default ? NotificationId.New(state.Time.ToDateTime()) : Id;
        if (draft.Slot is not null) Replace(id);
        var (position, time) = state.Draw();
        long? subject = traits.Subject is { } s ? NotificationTraits.HashOf(s) : null;
        long type = traits.TypeHash;

        foreach (var address in draft.To)
        {
            if (address.Kind != AddressKind.User) continue;
            var user = state.FindOrAdd(address.Name);
            Append(state.PersonalLog(address.Name), position, subject, type);
            passedBy.Add(user);
        }
        if (audienceLog is not null)
        {
            foreach (var address in draft.Except)
            {
                if (address.Kind == AddressKind.User) passedBy.Add(state.FindOrAdd(address.Name));
            }
            long ordinal = Append(audienceLog, position, subject, type);
            foreach (var user in passedBy) Skip(user, audienceLog, ordinal);
        }
        else
        {
            // They would not get it anyway, but an erasure must find where they are named.
            foreach (var address in draft.Except)
            {
                if (address.Kind == AddressKind.User && !draft.To.Contains(address))
                {
                    Skip(state.FindOrAdd(address.Name), places[0].Log, places[0].Ordinal);
                }
            }
        }
        var placements = new Placement[places.Count];
        for (int i = 0; i < placements.Length; i++) placements[i] = new Placement(places[i].Log.Id, places[i].Ordinal);
        var body = draft.Body;
        if (draft.Ttl is { } ttl)
        {
            var expires = new StoredTime(state.Due.Micros + (long)ttl.TotalMicroseconds);
            body = [.. body, (byte)',', .. Changes.Member("expires", ledger.Clock.Shown(expires).ToString())];
            state.AddDue(new DueRow(expires, DueKind.Expiry, position.Value, 0));
        }
        if (draft.Deadlines.Count > 0)
        {
            // Devices acknowledge a notification with a deadline at once.
            var due = new StoredTime(ledger.Now.Micros + draft.Deadlines.Min(d => (long)d.Within.TotalMicroseconds));
            body = [.. body, (byte)',', .. Changes.Member("due", due.ToString())];
        }
        var addressing = draft.Addressing;
        store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Notification, id, body, addressing, placements, traits));
        if (draft.Slot is not null) store.SaveSlot(state.Id, draft.SlotKey, position.Value);
        for (int i = 0; i < draft.Deadlines.Count; i++) Deadlines.Set(ledger, state, position, time, i, draft.Deadlines[i]);

        var entry = new OutgoingEntry(EntryKind.Notification, position, time, id, state.Cursors.Seal(position), body)
        { Trace = ledger.Trace is { } trace ? new EntryTrace(trace) : null };
        state.Recent.Add(entry);
        foreach (var user in passedBy) user.SkippedAt = position.Value;
        foreach (var (log, ordinal) in places)
        {
            foreach (var user in log.Audience is null ? [] : passedBy) ledger.FanOut.PassesBy(user);
            ledger.FanOut.Add(state.StateOf(log), ordinal, entry, traits);
            if (!alone) ledger.FanOut.Flush(attending);
        }
        foreach (var user in attending) ReadAtOnce(user);
        ledger.Observe(o => o.Stored(state.Row.Name, entry, addressing, placements));
        return new SendResult(id, position, reach, false);
    }

    /// <summary>Creates the audience of a deadline's other notification now, so that it can be sent then; or refuses the send.</summary>
    void ReserveOtherwise()
    {
        for (int i = 0; i < draft.Deadlines.Count; i++)
        {
            var otherwise = draft.Deadlines[i].Otherwise;
            for (int j = 0; j < otherwise.Count; j++)
            {
                if (otherwise[j] is OtherwiseNotification n) Reserve(n.Draft, draft.Deadlines[i].FieldOf(i, j) + ".to");
            }
        }
    }

    void Reserve(Draft other, string field)
    {
        if (Audience.Of(other.To, other.Except.Where(a => a.Kind != AddressKind.User)) is not { } audience) return;
        try
        {
            state.AudienceLog(audience);
        }
        catch (ProblemException refused)
        {
            throw (refused.Problem with { Errors = [new FieldError(field, refused.Problem.Detail)] }).ToException();
        }
    }

    /// <summary>Marks it read for users who are looking at its subject: their devices don't ring.</summary>
    void ReadAtOnce(UserState user)
    {
        foreach (var (log, ordinal) in places)
        {
            if (user.Logs?.Find(l => l.Log == log) is not { } own || own.SegmentOf(ordinal) is null || own.Muted.Contains(ordinal))
            {
                continue;
            }
            MarkOperation.Apply(ledger, state, user, own, [(ordinal - 1, ordinal)], MarkVerb.Read, "attending", state.LastTime);
            ledger.NextRev(user);
        }
    }

    /// <summary>Replaces the notification in the slot.</summary>
    void Replace(NotificationId by)
    {
        if (ledger.Store.FindSlot(state.Id, draft.SlotKey) is not { } before || before <= state.Floor) return;
        var old = ledger.Store.FindEntry(state.Id, before)!;
        if (!Changes.IsOver(ledger, state, old))
        {
            Changes.Make(ledger, state, EntryKind.Replaced, old, Changes.Member("by", by.ToString()), null, by.ToString());
        }
    }

    void Skip(UserState user, AddressLog log, long ordinal)
    {
        ledger.Store.AddSkip(log.Id, user.PersonId, ordinal);
        if (user.Logs?.Find(l => l.Log == log) is not { } seen) return;
        seen.CountOut(ordinal, 1);
        seen.Skips.Add(new OrdinalRun(ordinal, ordinal));
        seen.Save(ledger.Store, user.PersonId, evenUnchanged: true);
    }

    long Append(AddressLog log, Position position, long? subject, long type)
    {
        long ordinal = log.Append(position.Value);
        ledger.Store.AppendItem(log.Id, ordinal, position.Value, subject, type);
        places.Add((log, ordinal));
        return ordinal;
    }
}
