using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Directory;

/// <summary>Carries out the next step of an erasure. Answers its progress; null when none is under way.</summary>
/// <param name="space">The space's name.</param>
/// <param name="person">The person's number; null: any.</param>
public sealed class EraseStepCommand(string space, long? person = null) : LedgerCommand<ErasureState?>
{
    const int Few = 50, Window = 2000;

    internal override void Execute(Ledger ledger)
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

        /// <returns>The rest; null: none.</returns>
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
                ErasureStage.Receipts => Receipts(),
                _ => InGatherings(),
            };
            var next = erasure with { Scrubbed = erasure.Scrubbed + scrubbed };
            if (at is { } further) return next with { At = further };
            return erasure.Stage == ErasureStage.Gatherings ? null : next with { Stage = erasure.Stage + 1, At = 0 };
        }

        long? Otherwise()
        {
            var rows = store.OtherwiseAfter(state.Id, erasure.At, erasure.Position, Few);
            foreach (var (position, number, addressing) in rows)
            {
                if (!addressing.Names(named)) continue;
                // A stand-in that nobody is: the rest of them still hears of it; alone, nobody does.
                var rest = addressing.Without(named);
                store.RewriteOtherwise(state.Id, position, number, rest.To.Any() ? rest : null);
            }
            return rows.Count < Few ? null : rows[^1].Position - (rows[^1].Position == rows[0].Position ? 0 : 1);
        }

        long? Slots()
        {
            var rows = store.SlotsAfter(state.Id, erasure.At, erasure.Position, Few);
            foreach (var (position, key) in rows)
            {
                if (new Addressing(key).Names(named)) store.RemoveSlot(state.Id, key);
            }
            return rows.Count < Few ? null : rows[^1].Position;
        }

        long? Aside()
        {
            var rows = store.SetAsideAfter(state.Id, erasure.At, Few);
            foreach (var (number, detail) in rows)
            {
                if (detail.Contains(Quoted(erasure.Name), StringComparison.Ordinal) || detail.Contains(named, StringComparison.Ordinal))
                {
                    store.RewriteSetAside(number, "{}");
                }
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
            var addressing = entry.Addressing.Instead(named, instead);
            if (alone)
            {
                store.EraseEntry(state.Id, position,
                    [.. Changes.Member("type", "erased"), (byte)',', .. Changes.Member("title", "(erased)")], addressing);
            }
            else store.RewriteEntry(state.Id, position, entry.Body, addressing);
        }

        long? Acts()
        {
            long upTo = Math.Min(erasure.At + Window, erasure.Position);
            foreach (var entry in store.ActsIn(state.Id, erasure.At, upTo))
            {
                var text = Encoding.UTF8.GetString(entry.Body);
                if (!text.Contains(Quoted(erasure.Name), StringComparison.Ordinal)) continue;
                store.RewriteEntry(state.Id, entry.Position.Value,
                    Encoding.UTF8.GetBytes(Scrubbed("{" + text + "}", entry.Kind == EntryKind.Taken)[1..^1]), entry.Addressing);
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
                else if (detail.StartsWith('{') && detail.Contains(Quoted(erasure.Name), StringComparison.Ordinal))
                {
                    store.RewriteReceipt(state.Id, number, Scrubbed(detail, false));
                }
            }
            return upTo >= erasure.Receipt ? null : upTo;
        }

        long? InGatherings()
        {
            var rows = store.GatheringsAfter(state.Id, erasure.At, Few);
            foreach (var row in rows)
            {
                // One that was opened since is another person's.
                if (row.Id.Time <= erasure.Began.ToDateTime()) Gatherings.Erase(ledger, state, row, named);
            }
            return rows.Count < Few ? null : rows[^1].Number;
        }

        static string Quoted(string text) => $"\"{JsonEncodedText.Encode(text, JavaScriptEncoder.UnsafeRelaxedJsonEscaping)}\"";

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

    static readonly JsonSerializerOptions Relaxed = new() { Encoder = JsonText.WriterOptions.Encoder };
}
