using System.Security.Cryptography;
using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;

namespace Rovett.Core.Ledger;

/// <summary>Stores a notification and offers it to everybody connected whom it reaches.</summary>
public sealed class SendCommand(string space, Draft draft, Idempotency? idempotency, bool dryRun) : LedgerCommand<SendResult>
{
    SpaceState state = null!;
    OutgoingNotification? outgoing;
    readonly List<UserState> passedBy = [];
    readonly List<(AddressLog Log, long Ordinal)> places = [];
    string addressing = "";
    Placement[] placements = [];

    internal override void Write(Ledger ledger)
    {
        state = ledger.Space(space);
        var store = ledger.Store;
        if (idempotency is not null && store.FindAnswer(state.Id, idempotency.Key, new StoredTime(ledger.Now.Micros - (long)Idempotency.KeptFor.TotalMicroseconds)) is { } earlier)
        {
            if (!earlier.BodyHash.AsSpan().SequenceEqual(idempotency.BodyHash))
            {
                throw new Problem(422, "idempotency-key-reused", "The Idempotency-Key was used for another body",
                    "A request with this Idempotency-Key and a different body was answered within the last 48 hours.", "Use a new key for a new notification; repeat a request with exactly the same body.").Throw();
            }
            Answer = new SendResult(earlier.Id, earlier.Position, ReachOf(ledger), true);
            return;
        }
        var reach = ReachOf(ledger);
        if (ledger.Options.StrictAddresses && reach.FirstOrDefault(r => !r.Known) is { } unknown)
        {
            throw new Problem(422, "unknown-address", "Nobody knows that address", $"{unknown.Address}: no user or role by that name has shown a credential yet.",
                "Check the spelling, or turn strictAddresses off to store it for later.")
            { Errors = [new FieldError("to", $"{unknown.Address} is not known")] }.Throw();
        }
        if (dryRun)
        {
            Answer = new SendResult(default, default, reach, false);
            return;
        }
        var audience = Audience.Of(draft.To, draft.Except.Where(a => a.Kind != AddressKind.User));
        var audienceLog = audience is null ? null : state.AudienceLog(audience); // may refuse, so before anything is drawn
        var (position, time) = state.Draw();
        var id = NotificationId.New(time.ToDateTime());
        long? subject = draft.Subject is { } s ? HashOf(s) : null;

        foreach (var address in draft.To.Where(a => a.Kind == AddressKind.User).Distinct())
        {
            var user = state.FindOrAdd(address.Name, null);
            Append(store, state.PersonalLog(address.Name), position, subject);
            passedBy.Add(user);
        }
        if (audienceLog is not null)
        {
            foreach (var address in draft.Except.Where(a => a.Kind == AddressKind.User).Distinct()) passedBy.Add(state.FindOrAdd(address.Name, null));
            long ordinal = Append(store, audienceLog, position, subject);
            foreach (var user in passedBy)
            {
                store.AddSkip(audienceLog.Id, user.PersonId, ordinal);
                var seenLog = user.Logs?.Find(l => l.Log == audienceLog);
                seenLog?.Skips.Add(new OrdinalRun(ordinal, ordinal));
            }
        }
        placements = [.. places.Select(p => new Placement(p.Log.Id, p.Ordinal))];
        addressing = string.Join('\n', draft.To.Select(a => "+" + a).Concat(draft.Except.Select(a => "-" + a)));
        store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Notification, id, draft.Body, addressing, placements));
        if (idempotency is not null) store.AddAnswer(state.Id, idempotency.Key, new IdempotencyRow(idempotency.BodyHash, id, position), time);
        outgoing = new OutgoingNotification(position, time, id, state.Cursors.Seal(position), draft.Body);
        Answer = new SendResult(id, position, reach, false);
    }

    private protected override void Carry(Ledger ledger)
    {
        if (outgoing is null) return;
        long position = outgoing.Position.Value;
        state.AppliedHead = position;
        state.Recent.Add(outgoing);
        ledger.Observer?.Stored(space, outgoing, addressing, placements);
        foreach (var user in passedBy) user.SkippedAt = position;
        foreach (var (log, ordinal) in places)
        {
            bool personal = log.Audience is null;
            var wires = new NotificationWire?[log.Texts.Length];
            foreach (var member in log.Members)
            {
                var user = member.User;
                if (!personal && user.SkippedAt == position) continue;
                user.Unread++;
                user.AsOf = outgoing.Time;
                var wire = wires[member.AddressIndex] ??= outgoing.WireFor(log.Texts[member.AddressIndex]);
                foreach (var session in user.Sessions)
                {
                    if (session.Offer(wire, log.Id, ordinal, user.Rev, user.Unread)) ledger.FlushLater(session);
                }
            }
        }
    }

    long Append(ILedgerStore store, AddressLog log, Position position, long? subject)
    {
        long ordinal = log.Append(position.Value);
        store.AppendItem(log.Id, ordinal, position.Value, subject);
        places.Add((log, ordinal));
        return ordinal;
    }

    List<Reach> ReachOf(Ledger ledger)
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
                reach.Add(new Reach(text, user?.Seen is null ? 0 : 1, user?.Sessions.Count > 0 ? 1 : 0, 1, user?.Seen is not null));
                continue;
            }
            long members = ledger.Store.MembersOf(state.Id, text);
            long left = 0, leftConnected = 0;
            foreach (var name in except.Union(named))
            {
                if (state.Find(name) is not { } user || !user.Holds(text)) continue;
                left++;
                if (user.Sessions.Count > 0) leftConnected++;
            }
            reach.Add(new Reach(text, Math.Max(0, members), state.ConnectedWith(text) - leftConnected, Math.Max(0, members - left), members >= 0 || address.Kind == AddressKind.Everyone));
        }
        return reach;
    }

    /// <summary>The subject as 63 bits, by which the store finds what is about it.</summary>
    public static long HashOf(string subject) =>
        System.Buffers.Binary.BinaryPrimitives.ReadInt64BigEndian(SHA256.HashData(Encoding.UTF8.GetBytes(subject))) & long.MaxValue;
}
