using System.Security.Cryptography;
using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;

namespace Rovett.Core.Ledger;

/// <summary>Stores a notification and offers it to everybody connected whom it reaches.</summary>
/// <param name="space">The space's name.</param>
/// <param name="draft">The notification.</param>
/// <param name="idempotency">By what a repeat is known; null: by nothing.</param>
/// <param name="dryRun">Answers what it would do, and does nothing.</param>
/// <param name="origin">The session that caused it, which is not sent it.</param>
/// <param name="mayReplace">Whether whoever sends it may take a notification's place in its slot; null: any.</param>
public sealed class SendCommand(string space, Draft draft, Idempotency? idempotency, bool dryRun, (UserState User, ISessionPort Session)? origin = null, Func<EntryRow, bool>? mayReplace = null) : LedgerCommand<SendResult>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (idempotency is not null && ledger.Store.FindAnswer(state.Id, idempotency.Key, new StoredTime(ledger.Clock.Retention.Micros - (long)Idempotency.KeptFor.TotalMicroseconds)) is { } earlier)
        {
            if (!earlier.BodyHash.AsSpan().SequenceEqual(idempotency.BodyHash))
            {
                throw new Problem(422, "idempotency-key-reused", "The Idempotency-Key was used for another body",
                    "A request with this Idempotency-Key and a different body was answered within the last 48 hours.", "Use a new key for a new notification; repeat a request with exactly the same body.").Throw();
            }
            Answer = new SendResult(earlier.Id, earlier.Position, Reaching.Of(ledger, state, draft), true);
            return;
        }
        var reach = Reaching.Of(ledger, state, draft);
        Reaching.Check(ledger, draft, reach);
        if (mayReplace is not null && draft.Slot is not null && ledger.Store.FindSlot(state.Id, draft.SlotKey) is { } before && before > state.Floor && ledger.Store.FindEntry(state.Id, before) is { } old && !Changes.IsOver(ledger, state, old) && !mayReplace(old))
            throw new Problem(403, "api-key-narrowed", "The API key may not send this", $"In the slot '{draft.Slot}' stands a notification of another type, which this key may not replace.", "Use another slot, or a key that may send that type, too.") { Errors = [new FieldError("slot", "holds a notification that this key may not replace")] }.Throw();
        Answer = dryRun ? new SendResult(default, default, reach, false) : Store(ledger, state, reach);
        if (!dryRun && idempotency is not null) ledger.Store.AddAnswer(state.Id, idempotency.Key, new IdempotencyRow(idempotency.BodyHash, Answer.Id, Answer.Position), ledger.Clock.Retention);
    }

    SendResult Store(Ledger ledger, SpaceState state, List<Reach> reach)
    {
        var sending = new Sending(ledger, state, draft);
        if (origin is not var (user, session)) return sending.Store(reach);
        ledger.FanOut.Flush(); // what came before is offered to it
        ledger.Origin = session;
        try
        {
            var result = sending.Store(reach);
            ledger.FanOut.Flush();
            return result;
        }
        finally
        {
            ledger.Origin = null;
            if (SessionPlaces.Find(state, user, session) is var (present, place)) ledger.Tell(place, Messages.TotalsNow(Ledger.TotalsOf(present)));
        }
    }

    /// <summary>A text as 63 bits, by which the store finds what is about a subject or of a type.</summary>
    public static long HashOf(string text) =>
        System.Buffers.Binary.BinaryPrimitives.ReadInt64BigEndian(SHA256.HashData(Encoding.UTF8.GetBytes(text))) & long.MaxValue;
}

/// <summary>Whom a send comes to.</summary>
static class Reaching
{
    public static List<Reach> Of(Ledger ledger, SpaceState state, Draft draft)
    {
        var except = draft.Except.Where(a => a.Kind == AddressKind.User).Select(a => a.Name).ToHashSet();
        var named = draft.To.Where(a => a.Kind == AddressKind.User).Select(a => a.Name).ToHashSet();
        var reach = new List<Reach>(draft.To.Count);
        foreach (var address in draft.To)
        {
            var text = address.ToString();
            if (address.Kind == AddressKind.User)
            {
                var user = state.Find(address.Name);
                bool known = user?.IsKnown == true;
                reach.Add(new Reach(text, known ? 1 : 0, user?.Sessions.Exists(s => !s.Silent) == true ? 1 : 0, 1, known));
                continue;
            }
            long members = ledger.Store.MembersOf(state.Id, text);
            long left = 0, leftConnected = 0;
            foreach (var name in except.Union(named))
            {
                if (state.Find(name) is not { } user || !user.Holds(text)) continue;
                left++;
                if (user.Sessions.Exists(s => !s.Silent)) leftConnected++;
            }
            bool isTopic = address.Kind == AddressKind.Topic;
            bool isKnown = members >= 0 || address.Kind == AddressKind.Everyone || (isTopic ? state.Topics.Present.Set.Covers(address.Name) || state.Topics.GrantsOn(address.Name).Count > 0 : state.Role(address.Name) is not null);
            long connected = state.ConnectedWith(text) - leftConnected;
            if (isTopic) connected += state.Watches.On(address.Name).Where(p => !p.Silent && !p.User.Holds(text) && !except.Contains(p.User.Id.Value) && !named.Contains(p.User.Id.Value)).Select(p => p.User).Distinct().Count();
            reach.Add(new Reach(text, Math.Max(0, members), connected, Math.Max(0, members - left), isKnown));
        }
        return reach;
    }

    /// <exception cref="ProblemException">The service is strict, and an address is unknown; or a deadline waits for too many.</exception>
    public static void Check(Ledger ledger, Draft draft, List<Reach> reach)
    {
        if (ledger.Options.StrictAddresses && reach.Find(r => !r.Known) is { } unknown)
        {
            throw new Problem(422, "unknown-address", "Nobody knows that address", $"{unknown.Address}: no user or role by that name has shown a credential or stands in the directory, or no policy is about the topic.",
                "Check the spelling, or turn strictAddresses off to store it for later.")
            { Errors = [new FieldError("to", $"{unknown.Address} is not known")] }.Throw();
        }
        if (draft.Deadlines.Any(d => d.Each) && reach.Sum(r => r.Stored) is > Draft.MaxEach and var people)
        {
            throw new Problem(422, "deadline-for-too-many", "A deadline for each can't wait for so many", $"It would wait for {people} people; the limit is {Draft.MaxEach}.",
                "Use \"who\":\"anyone\", or send to fewer people.")
            { Errors = [new FieldError("deadlines", $"\"each\" waits for {people} people; the limit is {Draft.MaxEach}")] }.Throw();
        }
    }
}

/// <summary>One notification on its way into the store and out to whoever is connected.</summary>
sealed class Sending(Ledger ledger, SpaceState state, Draft draft)
{
    readonly List<UserState> passedBy = [];
    readonly List<(AddressLog Log, long Ordinal)> places = [];

    public SendResult Store(List<Reach> reach)
    {
        var store = ledger.Store;
        var traits = draft.Traits;
        var audience = Audience.Of(draft.To, draft.Except.Where(a => a.Kind != AddressKind.User));
        var audienceLog = audience is null ? null : state.AudienceLog(audience); // may refuse, so before anything is drawn
        ReserveOtherwise();
        var attending = state.Attending(traits.Subject);
        // It goes to one log and changes nothing else that is in memory: it can be offered together with its neighbours.
        bool alone = draft.Slot is null && attending.Count == 0 && !draft.To.Concat(draft.Except).Any(a => a.Kind == AddressKind.User);
        if (!alone) ledger.FanOut.Flush();
        var id = NotificationId.New(state.Time.ToDateTime());
        if (draft.Slot is not null) Replace(id);
        var (position, time) = state.Draw();
        long? subject = traits.Subject is { } s ? SendCommand.HashOf(s) : null;
        long type = SendCommand.HashOf(traits.Type);

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
            // It would not have come to them anyway; but an erasure must find where they are named.
            foreach (var address in draft.Except)
            {
                if (address.Kind == AddressKind.User && !draft.To.Contains(address)) Skip(state.FindOrAdd(address.Name), places[0].Log, places[0].Ordinal);
            }
        }
        var placements = new Placement[places.Count];
        for (int i = 0; i < placements.Length; i++) placements[i] = new Placement(places[i].Log.Id, places[i].Ordinal);
        var body = draft.Body;
        if (draft.Ttl is { } ttl)
        {
            var expires = new StoredTime(state.Due.Micros + (long)ttl.TotalMicroseconds);
            body = [.. body, (byte)',', .. Changes.Member("expires", ledger.Clock.Shown(expires).ToString())];
            store.AddDue(state.Id, new DueRow(expires, DueKind.Expiry, position.Value, 0));
        }
        if (draft.Deadlines.Count > 0)
        {
            // Devices acknowledge it at once, and may show it.
            var due = new StoredTime(ledger.Now.Micros + draft.Deadlines.Min(d => (long)d.Within.TotalMicroseconds));
            body = [.. body, (byte)',', .. Changes.Member("due", due.ToString())];
        }
        var addressing = draft.Addressing;
        store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Notification, id, body, addressing, placements, traits));
        if (draft.Slot is not null) store.SaveSlot(state.Id, draft.SlotKey, position.Value);
        for (int i = 0; i < draft.Deadlines.Count; i++) Deadlines.Set(ledger, state, position, time, i, draft.Deadlines[i]);

        var entry = new OutgoingEntry(EntryKind.Notification, position, time, id, state.Cursors.Seal(position), body);
        state.Recent.Add(entry);
        foreach (var user in passedBy) user.SkippedAt = position.Value;
        foreach (var (log, ordinal) in places)
        {
            ledger.FanOut.Add(log, ordinal, entry, traits);
            if (!alone) ledger.FanOut.Flush(attending);
        }
        foreach (var user in attending) ReadAtOnce(user);
        ledger.Observe(o => o.Stored(state.Row.Name, entry, addressing, placements));
        return new SendResult(id, position, reach, false);
    }

    /// <summary>What a deadline is to send otherwise must be possible then: its audience is made now, or the send refused.</summary>
    void ReserveOtherwise()
    {
        for (int i = 0; i < draft.Deadlines.Count; i++)
        {
            if (draft.Deadlines[i].Otherwise is not { } otherwise || Audience.Of(otherwise.To, otherwise.Except.Where(a => a.Kind != AddressKind.User)) is not { } audience) continue;
            try
            {
                state.AudienceLog(audience);
            }
            catch (ProblemException refused)
            {
                throw (refused.Problem with { Errors = [new FieldError($"deadlines[{i}].otherwise.to", refused.Problem.Detail)] }).Throw();
            }
        }
    }

    /// <summary>Somebody who is looking at the subject has read it: nothing rings.</summary>
    void ReadAtOnce(UserState user)
    {
        foreach (var (log, ordinal) in places)
        {
            if (user.Logs?.Find(l => l.Log == log) is not { } own || own.SegmentOf(ordinal) is null || own.Muted.Contains(ordinal)) continue;
            Marking.Apply(ledger, state, user, own, [(ordinal - 1, ordinal)], MarkVerb.Read, "attending", state.LastTime);
            ledger.NextRev(user);
        }
    }

    /// <summary>What stands in the slot until now is replaced.</summary>
    void Replace(NotificationId by)
    {
        if (ledger.Store.FindSlot(state.Id, draft.SlotKey) is not { } before || before <= state.Floor) return;
        var old = ledger.Store.FindEntry(state.Id, before)!;
        if (!Changes.IsOver(ledger, state, old)) Changes.Make(ledger, state, EntryKind.Replaced, old, Changes.Member("by", by.ToString()), null, by.ToString());
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
