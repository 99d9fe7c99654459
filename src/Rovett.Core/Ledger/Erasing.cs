using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;

namespace Rovett.Core.Ledger;

/// <summary>What an erasure still has to look at, in this order.</summary>
public enum ErasureStage
{
    /// <summary>What missed deadlines are to send otherwise.</summary>
    Deadlines = 0,
    /// <summary>The keys of slots.</summary>
    Slots = 1,
    /// <summary>What was set aside.</summary>
    SetAside = 2,
    /// <summary>The person's own notifications.</summary>
    Own = 3,
    /// <summary>Notifications that name or except the person beside others.</summary>
    Named = 4,
    /// <summary>Entries that say who took something over, or missed a deadline.</summary>
    Acts = 5,
    /// <summary>Receipts.</summary>
    Receipts = 6,
}

/// <summary>An erasure under way.</summary>
/// <param name="Person">The person's number.</param>
/// <param name="Name">The id that is erased.</param>
/// <param name="Log">The personal log.</param>
/// <param name="Position">The entry that says so: what comes after it is another person's of the same id.</param>
/// <param name="Receipt">The newest receipt then.</param>
/// <param name="Stage">What is looked at now.</param>
/// <param name="At">How far.</param>
/// <param name="Scrubbed">Notifications scrubbed so far.</param>
/// <param name="Began">When it began.</param>
public sealed record ErasureRow(long Person, string Name, long Log, long Position, long Receipt, ErasureStage Stage, long At, long Scrubbed, StoredTime Began)
{
    /// <summary>What stands for the person from now on.</summary>
    public string Pseudonym => $"erased-{Person}";
}

/// <summary>How an erasure stands.</summary>
public sealed record ErasureState(ErasureRow Row, bool Done);

/// <summary>Erases a person: sessions end, roles, marks, acks, mutes and takings go, the personal log becomes nobody's. What is left is scrubbed by
/// <see cref="EraseStepCommand"/>, step by step, also after a restart. What happened stays, under a name that says nothing. Answers null when nobody is known by the id.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">Who.</param>
/// <param name="longestToken">The longest a token may run: for so long none that was made before is let in.</param>
public sealed class EraseUserCommand(string space, string userId, TimeSpan longestToken) : LedgerCommand<ErasureRow?>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (state.Find(userId) is not { } user)
        {
            Answer = ledger.Store.FindErasure(state.Id, userId); // it was begun before
            return;
        }
        var personal = state.PersonalLog(userId);
        Changes.ReleaseLost(ledger, state, user, everything: true);
        Standing.EndSessions(ledger, state, user, "erased");
        user.Follows.Clear();
        long validFrom = Math.Max(user.Row.ValidFrom, Math.Max(ledger.Now.Micros + 1, user.Row.Ahead.Select(Math.Abs).DefaultIfEmpty().Max() + 1));
        Roles.Apply(ledger, state, user, user.Row with { Seen = null, TokenRoles = [], DirectoryRoles = [], DisplayName = null, Locale = null, Claims = "", RulesSeen = null });
        if (user.Held.Any()) Roles.Reconsider(ledger, state, user, null); // topics
        state.Forget(user);
        ledger.Store.ErasePerson(user.PersonId);
        state.Topics.ForgetAll();
        var (position, time) = state.Draw();
        var erasure = new ErasureRow(user.PersonId, userId, personal.Id, position.Value, state.LastReceipt, ErasureStage.Deadlines, 0, 0, time);
        ledger.Store.SavePerson(user.Row with { User = "\u0001" + erasure.Pseudonym, Rev = 0, RolesIssuedAt = 0, ValidFrom = 0, Blocked = false, Ahead = [], ClaimsAt = 0 }); // no id may hold a control character
        state.Rename(personal, "\u0001" + erasure.Pseudonym);
        ledger.Store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Erased, default, Changes.Member("person", erasure.Pseudonym), "", [], NotificationTraits.None));
        ledger.Store.SaveErasure(state.Id, erasure);
        ledger.Store.SaveTombstone(state.Id, state.HashOf(userId), validFrom, user.PersonId);
        state.HasTombstones = true;
        ledger.Store.AddDue(state.Id, new DueRow(new StoredTime(state.Due.Micros + (long)longestToken.TotalMicroseconds), DueKind.TombstoneEnd, user.PersonId, 0));
        ledger.Observe(o => o.Erased(space, userId));
        Answer = erasure;
    }
}

/// <summary>Carries an erasure on by one step. Answers how it stands then; null when there is none.</summary>
/// <param name="space">The space's name.</param>
/// <param name="person">The person's number; null: any.</param>
public sealed class EraseStepCommand(string space, long? person = null) : LedgerCommand<ErasureState?>
{
    const int Few = 50, Window = 2000;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        if (ledger.Store.Erasures(state.Id).FirstOrDefault(e => person is null || e.Person == person) is not { } erasure) return;
        var next = new Step(ledger, state, erasure).Take();
        if (next is null)
        {
            ledger.Store.RemoveErasure(state.Id, erasure.Person);
            ledger.Store.ScrubFreed();
            state.Recent.Clear();
        }
        else ledger.Store.SaveErasure(state.Id, next);
        Answer = new ErasureState(next ?? erasure, next is null);
    }

    sealed class Step(Ledger ledger, SpaceState state, ErasureRow erasure)
    {
        readonly ILedgerStore store = ledger.Store;
        readonly string named = "user:" + erasure.Name, instead = "user:" + erasure.Pseudonym;
        long scrubbed;

        /// <returns>What is left; null: nothing.</returns>
        public ErasureRow? Take()
        {
            long? at = erasure.Stage switch
            {
                ErasureStage.Deadlines => Otherwise(),
                ErasureStage.Slots => Slots(),
                ErasureStage.SetAside => Aside(),
                ErasureStage.Own => Own(),
                ErasureStage.Named => Named(),
                ErasureStage.Acts => Acts(),
                _ => Receipts(),
            };
            var next = erasure with { Scrubbed = erasure.Scrubbed + scrubbed };
            if (at is { } further) return next with { At = further };
            return erasure.Stage == ErasureStage.Receipts ? null : next with { Stage = erasure.Stage + 1, At = 0 };
        }

        long? Otherwise()
        {
            var rows = store.OtherwiseAfter(state.Id, erasure.At, erasure.Position, Few);
            foreach (var (position, number, addressing) in rows)
            {
                if (!Names(addressing)) continue;
                // A stand-in that nobody is: the rest of them still hears of it; alone, nobody does.
                var rest = string.Join('\n', addressing.Split('\n').Where(line => line[1..] != named));
                store.RewriteOtherwise(state.Id, position, number, rest.Contains('+', StringComparison.Ordinal) ? rest : null);
            }
            return rows.Count < Few ? null : rows[^1].Position - (rows[^1].Position == rows[0].Position ? 0 : 1);
        }

        long? Slots()
        {
            var rows = store.SlotsAfter(state.Id, erasure.At, erasure.Position, Few);
            foreach (var (position, key) in rows)
            {
                if (Names(key)) store.RemoveSlot(state.Id, key);
            }
            return rows.Count < Few ? null : rows[^1].Position;
        }

        long? Aside()
        {
            var rows = store.SetAsideAfter(state.Id, erasure.At, Few);
            foreach (var (number, detail) in rows)
            {
                if (detail.Contains(Quoted(erasure.Name), StringComparison.Ordinal) || detail.Contains(named, StringComparison.Ordinal)) store.RewriteSetAside(number, "{}");
            }
            return rows.Count < Few ? null : rows[^1].Number;
        }

        long? Own()
        {
            var items = store.ItemsAfter(erasure.Log, erasure.At, Few);
            foreach (var (_, position) in items) Scrub(position);
            if (items.Count < Few) store.EraseItems(erasure.Log);
            return items.Count < Few ? null : items[^1].Ordinal;
        }

        long? Named()
        {
            var skips = store.SkipsOf(erasure.Person, Few);
            foreach (var (log, ordinal, position) in skips)
            {
                if (position > 0) Scrub(position);
                store.RemoveSkip(erasure.Person, log, ordinal);
            }
            return skips.Count < Few ? null : 0;
        }

        void Scrub(long position)
        {
            if (store.FindEntry(state.Id, position) is not { Kind: EntryKind.Notification } entry) return;
            scrubbed++;
            bool alone = entry.Placements.Length == 1 && entry.Placements[0].Log == erasure.Log;
            var addressing = string.Join('\n', entry.Addressing.Split('\n').Select(line => line[1..] == named ? line[..1] + instead : line));
            if (alone) store.EraseEntry(state.Id, position, [.. Changes.Member("type", "erased"), (byte)',', .. Changes.Member("title", "(erased)")], addressing);
            else store.RewriteEntry(state.Id, position, entry.Body, addressing);
        }

        long? Acts()
        {
            long upTo = Math.Min(erasure.At + Window, erasure.Position);
            foreach (var entry in store.ActsIn(state.Id, erasure.At, upTo))
            {
                var text = Encoding.UTF8.GetString(entry.Body);
                if (!text.Contains(Quoted(erasure.Name), StringComparison.Ordinal)) continue;
                store.RewriteEntry(state.Id, entry.Position.Value, Encoding.UTF8.GetBytes(Scrubbed("{" + text + "}", entry.Kind == EntryKind.Taken)[1..^1]), entry.Addressing);
            }
            return upTo >= erasure.Position ? null : upTo;
        }

        long? Receipts()
        {
            long upTo = Math.Min(erasure.At + Window, erasure.Receipt);
            store.ForgetDevices(state.Id, erasure.Person, erasure.At, upTo);
            foreach (var (number, detail) in store.ReceiptDetails(state.Id, erasure.At, upTo))
            {
                // Who took it stands there alone; what a deadline says is an object.
                if (detail == erasure.Name) store.RewriteReceipt(state.Id, number, erasure.Pseudonym);
                else if (detail.StartsWith('{') && detail.Contains(Quoted(erasure.Name), StringComparison.Ordinal)) store.RewriteReceipt(state.Id, number, Scrubbed(detail, false));
            }
            return upTo >= erasure.Receipt ? null : upTo;
        }

        bool Names(string addressing)
        {
            foreach (var line in addressing.AsSpan().Split('\n'))
            {
                if (addressing.AsSpan(line) is [_, .. var address] && address.SequenceEqual(named)) return true;
            }
            return false;
        }

        static string Quoted(string text) => $"\"{System.Text.Json.JsonEncodedText.Encode(text, System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping)}\"";

        /// <summary>Of a deadline <c>by</c> is a state, not a person.</summary>
        string Scrubbed(string json, bool byIsPerson)
        {
            var root = (JsonObject)JsonNode.Parse(json)!;
            if (byIsPerson && (string?)root["by"] == erasure.Name) root["by"] = erasure.Pseudonym;
            if (root["missingUsers"] is JsonArray missing)
            {
                for (int i = 0; i < missing.Count; i++)
                {
                    if ((string?)missing[i] == erasure.Name) missing[i] = erasure.Pseudonym;
                }
            }
            return root.ToJsonString(Relaxed);
        }
    }

    static readonly System.Text.Json.JsonSerializerOptions Relaxed = new() { Encoder = MessageBuilder.Options.Encoder };
}

/// <summary>The erasures under way in a space.</summary>
public sealed class ErasuresCommand(string space) : LedgerCommand<IReadOnlyList<ErasureRow>>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger) => Answer = ledger.Store.Erasures(ledger.Space(space).Id);
}

/// <summary>Hides the ids of erased people.</summary>
static class Tombstones
{
    /// <summary>An id as a hash that only this space's key gives.</summary>
    public static byte[] Hash(byte[] key, string userId) => HMACSHA256.HashData(key, Encoding.UTF8.GetBytes(userId))[..16];
}
