using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Rovett.Core.Addresses;
using Rovett.Core.Events;
using Rovett.Core.Notifications;
using Rovett.Core.Rules;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>Gathers events into one notification. While a gathering is open, nothing of it is listed, counted or sent.</summary>
static class Gatherings
{
    /// <summary>The most events of a gathering: then it closes.</summary>
    public const int MaxEvents = 1000;

    /// <summary>Puts an event into its gathering, which it opens if there is none.</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="space">The space.</param>
    /// <param name="rule">The rule that gathers.</param>
    /// <param name="draft">Its draft for this event.</param>
    /// <param name="origin">The event.</param>
    /// <returns>The gathering, and the notification sent at once, if there is one.</returns>
    /// <exception cref="RuleFailure">The draft cannot be made for so many; the gathering stays as it was.</exception>
    public static (MadeGathering Gathering, NotificationId? Sent) Add(Ledger ledger, SpaceState space, Rule rule, RuleDraft draft,
        IncomingEvent origin)
    {
        var store = ledger.Store;
        var key = KeyOf(rule, draft.Draft);
        NotificationId? sent = null;
        var row = store.FindGathering(space.Id, key);
        if (row is not null && IsErased(ledger, space, row, draft.Draft))
        {
            Drop(ledger, space, row);
            row = null;
        }
        if (row is null)
        {
            var closes = new StoredTime(space.Due.Micros + (long)rule.GathersFor!.Value.TotalMicroseconds);
            long? first = null;
            if (rule.SendsFirstNow)
            {
                var result = new SendOperation(ledger, space, draft.Draft).Store([]);
                (sent, first) = (result.Id, result.Position.Value);
            }
            row = new GatheringRow(0, key, NotificationId.New(space.Time.ToDateTime()), rule.Name, 1, closes, draft.Body,
                ExceptOf(draft.Draft), draft.Draft.Traits.Receipts, first);
            row = row with { Number = store.AddGathering(space.Id, row) };
            space.Events.Gatherings++;
            space.AddDue(new DueRow(closes, DueKind.GatheringEnd, row.Number, 0));
        }
        else
        {
            var next = draft.ForCount!(row.Events + 1);
            row = row with
            {
                Events = row.Events + 1,
                Body = next.Body,
                ExceptToo = string.Join('\n', row.ExceptToo.Split('\n', StringSplitOptions.RemoveEmptyEntries)
                    .Union(next.Draft.Except.Select(a => a.ToString()))),
                Receipts = next.Draft.Traits.Receipts,
            };
            store.SaveGathering(space.Id, row);
            if (row.Events >= MaxEvents)
            {
                store.RemoveDue(space.Id, new DueRow(row.Closes, DueKind.GatheringEnd, row.Number, 0));
                space.AddDue(new DueRow(space.Due, DueKind.GatheringEnd, row.Number, 0));
            }
        }
        store.AddOrigin(space.Id, row.Id, origin.Source, origin.Id, rule.Name);
        return (new MadeGathering(row.Id, rule.Name, space.Shown(row.Closes)), sent);
    }

    /// <summary>Closes a gathering: stores its last draft.</summary>
    public static void Close(Ledger ledger, SpaceState space, long number)
    {
        if (ledger.Store.FindGathering(space.Id, number) is not { } row) return;
        Remove(ledger, space, row);
        // One that was sent at once and stayed alone is as it should be.
        if (row.First is not null && row.Events == 1) return;
        try
        {
            Store(ledger, space, row);
        }
        catch (ProblemException refused)
        {
            ledger.SetAside(space, new SetAsideRow(space.Time, AsideKind.Gathering, 0, refused.Problem.Detail,
                "{\"id\":\"" + row.Id + "\",\"rule\":" + Quoted(row.Rule) + ",\"notification\":" + Encoding.UTF8.GetString(row.Body) + "}"),
                $"the notification of {row.Events} events gathered by the rule '{row.Rule}'");
        }
    }

    static void Store(Ledger ledger, SpaceState space, GatheringRow row)
    {
        var draft = WithoutErased(ledger, space, row, DraftOf(row));
        if (draft.To.Count == 0) return;
        var reach = Recipients.Of(ledger, space, draft);
        Recipients.Check(ledger, draft, reach);
        var sending = new SendOperation(ledger, space, draft) { Id = row.Id };
        sending.Check();
        if (row.First is { } position && position > space.Floor && ledger.Store.FindEntry(space.Id, position) is { } first
            && !Changes.IsOver(ledger, space, first))
        {
            Changes.Make(ledger, space, EntryKind.Replaced, first, Changes.Member("by", row.Id.ToString()), null, row.Id.ToString());
        }
        sending.Store(reach);
    }

    /// <summary>The notification that closes a gathering. Everyone excepted by one of its events stays excepted.</summary>
    static Draft DraftOf(GatheringRow row)
    {
        using var document = JsonDocument.Parse(row.Body);
        var draft = NotificationReader.Read(document.RootElement, _ => new TypeTerms(row.Receipts), out _);
        var except = draft.Except.ToList();
        foreach (var line in row.ExceptToo.Split('\n', StringSplitOptions.RemoveEmptyEntries))
        {
            if (Address.TryParse(line, out var address) is null && !except.Contains(address)) except.Add(address);
        }
        return draft with { To = [.. draft.To.Where(a => !except.Contains(a))], Except = except };
    }

    /// <summary>Not to a person who is being erased, which would create that person again.</summary>
    static Draft WithoutErased(Ledger ledger, SpaceState space, GatheringRow row, Draft draft)
    {
        var erased = ledger.Store.Erasures(space.Id).Where(e => row.Number <= e.Gathering).Select(e => e.Name).ToHashSet();
        if (erased.Count == 0) return draft;
        bool Stays(Address address) => address.Kind != AddressKind.User || !erased.Contains(address.Name);
        return draft with { To = [.. draft.To.Where(Stays)], Except = [.. draft.Except.Where(Stays)] };
    }

    /// <summary>Whether it is to a person who is being erased: what comes now is another person's of the same id.</summary>
    static bool IsErased(Ledger ledger, SpaceState space, GatheringRow row, Draft draft) => draft.To.Any(a => a.Kind == AddressKind.User)
        && ledger.Store.Erasures(space.Id)
        .Any(e => row.Number <= e.Gathering && draft.To.Any(a => a.Kind == AddressKind.User && a.Name == e.Name));

    /// <summary>Takes a person out of an open gathering; drops one that is to that person.</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="space">The space.</param>
    /// <param name="row">The gathering.</param>
    /// <param name="named">The person's address.</param>
    public static void Erase(Ledger ledger, SpaceState space, GatheringRow row, string named)
    {
        var body = (JsonObject)JsonNode.Parse(row.Body)!;
        if (body["to"]!.AsArray().Any(a => (string?)a == named))
        {
            Drop(ledger, space, row);
            return;
        }
        var except = row.ExceptToo.Split('\n');
        if (!except.Contains(named)) return;
        if (body["except"] is JsonArray inBody)
        {
            foreach (var item in inBody.Where(a => (string?)a == named).ToList()) inBody.Remove(item);
        }
        ledger.Store.SaveGathering(space.Id, row with
        {
            Body = Encoding.UTF8.GetBytes(body.ToJsonString(Relaxed)),
            ExceptToo = string.Join('\n', except.Where(a => a != named)),
        });
    }

    static readonly JsonSerializerOptions Relaxed = new() { Encoder = JsonText.WriterOptions.Encoder };

    /// <summary>Drops an open gathering: nothing of it is ever sent.</summary>
    public static void Drop(Ledger ledger, SpaceState space, GatheringRow row)
    {
        ledger.Store.RemoveDue(space.Id, new DueRow(row.Closes, DueKind.GatheringEnd, row.Number, 0));
        Remove(ledger, space, row);
    }

    static void Remove(Ledger ledger, SpaceState space, GatheringRow row)
    {
        ledger.Store.RemoveGathering(space.Id, row.Number);
        space.Events.Gatherings--;
    }

    static string ExceptOf(Draft draft) => string.Join('\n', draft.Except.Select(a => a.ToString()));

    static string Quoted(string text) => "\"" + JsonEncodedText.Encode(text, JsonText.WriterOptions.Encoder) + "\"";

    static byte[] KeyOf(Rule rule, Draft draft) => SHA256.HashData(Encoding.UTF8.GetBytes(string.Join('\n',
        draft.To.Select(a => a.ToString()).Order(StringComparer.Ordinal).Prepend(draft.Traits.Subject ?? "").Prepend(rule.Name))));
}
