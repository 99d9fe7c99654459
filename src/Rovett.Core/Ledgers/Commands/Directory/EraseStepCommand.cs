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
public sealed class EraseStepCommand(string space, long? person = null) : LedgerCommand<ErasureState?>(space)
{
    const int Few = 50, Window = 2000;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (ledger.Store.Erasures(state.Id).FirstOrDefault(e => person is null || e.Person == person) is not { } erasure)
        {
            if (person is null) state.Agenda.IsErasing = false;
            return;
        }
        state.RollCalls.Clear(); // they may name the person
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
                ErasureStage.Gatherings => InGatherings(),
                ErasureStage.Outbound => Outbound(),
                _ => Events(),
            };
            var next = erasure with { Scrubbed = erasure.Scrubbed + scrubbed };
            if (at is { } further) return next with { At = further };
            return erasure.Stage == ErasureStage.Events ? null : next with { Stage = erasure.Stage + 1, At = 0 };
        }

        long? Otherwise()
        {
            var rows = store.OtherwiseAfter(state.Id, erasure.At, erasure.Position, Few);
            foreach (var (position, number, item, addressing) in rows)
            {
                if (!addressing.Names(named)) continue;
                // A stand-in that nobody is: the rest of them still hears of it; alone, nobody does.
                var rest = addressing.Without(named);
                store.RewriteOtherwise(state.Id, position, number, item, rest.To.Any() ? rest : null);
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
                if (Names(detail) || SaysNameIn(detail)) store.RewriteSetAside(number, "{}");
            }
            return rows.Count < Few ? null : rows[^1].Number;
        }

        /// <summary>Whether what a source handed over, and nobody could read, has the name in it as a word.</summary>
        bool SaysNameIn(string detail)
        {
            var root = JsonElement.Parse(detail);
            var text = root.TryGetProperty("text", out var said) ? said.GetString()!
                : root.TryGetProperty("base64", out var bytes) ? Encoding.Latin1.GetString(bytes.GetBytesFromBase64()) : "";
            for (int at = 0; (at = text.IndexOf(erasure.Name, at, StringComparison.Ordinal)) >= 0; at++)
            {
                int end = at + erasure.Name.Length;
                bool begins = at == 0 || !char.IsLetterOrDigit(text[at - 1]);
                if (begins && (end == text.Length || !char.IsLetterOrDigit(text[end]))) return true;
            }
            return false;
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
                store.EraseOtherwise(state.Id, position);
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
                if (row.Number <= erasure.Gathering) Gatherings.Erase(ledger, state, row, named);
            }
            return rows.Count < Few ? null : rows[^1].Number;
        }

        /// <summary>Calls and e-mails about what was the person's alone end by themselves; the others lose the name.</summary>
        long? Outbound()
        {
            var rows = store.OutboundAfter(state.Id, erasure.At, Few);
            foreach (var row in rows)
            {
                if (row.Position >= erasure.Position || !row.Detail.Contains(Quoted(erasure.Name), StringComparison.Ordinal)) continue;
                var root = JsonNode.Parse(row.Detail)!;
                Rename(root);
                store.SaveOutbound(state.Id, row with { Detail = root.ToJsonString(Relaxed) });
            }
            return rows.Count < Few ? null : rows[^1].Number;
        }

        /// <summary>An event loses its content if that names the person, and the name in its subject. Its id stays: repeats are
        /// recognised by it.</summary>
        long? Events()
        {
            var rows = store.EventsAfter(state.Id, new StoredTime(erasure.At), Few);
            foreach (var row in rows)
            {
                var subject = row.Subject is { } about ? string.Join('/', about.Split('/').Select(Other)) : null;
                bool isNamed = row.Content is { } content && Names(Encoding.UTF8.GetString(content));
                if (isNamed || subject != row.Subject)
                {
                    store.RewriteEvent(state.Id, row with { Subject = subject, Content = isNamed ? null : row.Content });
                }
            }
            return rows.Count == 0 || rows[^1].Time.Micros > erasure.Began.Micros ? null : rows[^1].Time.Micros;
        }

        string Other(string part) => part == erasure.Name ? erasure.Pseudonym : part == named ? instead : part;

        bool Names(string json) =>
            json.Contains(Quoted(erasure.Name), StringComparison.Ordinal) || json.Contains(named, StringComparison.Ordinal);

        void Rename(JsonNode? node)
        {
            if (node is JsonObject map)
            {
                foreach (var (name, value) in map.ToList())
                {
                    if (IsName(value)) map[name] = erasure.Pseudonym;
                    else Rename(value);
                }
            }
            else if (node is JsonArray list)
            {
                for (int i = 0; i < list.Count; i++)
                {
                    if (IsName(list[i])) list[i] = erasure.Pseudonym;
                    else Rename(list[i]);
                }
            }
        }

        bool IsName(JsonNode? node) => node is JsonValue value && value.TryGetValue(out string? text) && text == erasure.Name;

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
