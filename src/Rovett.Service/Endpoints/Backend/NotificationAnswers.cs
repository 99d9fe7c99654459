using Rovett.Core.Ledgers;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Wire;
using Rovett.Service.Http;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Makes answers of stored notifications.</summary>
static class NotificationAnswers
{
    /// <summary>A notification as backends and operators see it.</summary>
    public static NotificationAnswer Of(OperatorItem found, ServiceClock clock,
        IReadOnlyList<(string Source, string Id, string Rule)>? origins = null)
    {
        var entry = found.Entry;
        using var body = new StoredBody(entry.Body);
        return new NotificationAnswer
        {
            Id = entry.Id.ToString(),
            Position = entry.Position.Value,
            Time = entry.Time,
            To = [.. entry.Addressing.To],
            Except = [.. entry.Addressing.Except],
            Type = body.Text("type")!,
            Subject = body.Text("subject"),
            Title = body.Text("title")!,
            Body = body.Text("body"),
            Link = body.Text("link"),
            Urgency = body.Text("urgency"),
            Takeable = body.Flag("takeable") ? true : null,
            Data = body.Any("data"),
            Expires = body.Time("expires"),
            Due = body.Time("due"),
            People = new PeopleAnswer
            {
                Received = found.People.Received,
                Handled = found.People.Handled,
                Read = found.People.Read,
            },
            ReceiptsKept = entry.Traits.Receipts.ToString().ToLowerInvariant(),
            Taken = found.Taken is var (taker, until)
                ? new TakenAnswer { By = taker, Until = until is { } end ? clock.Shown(end) : null }
                : null,
            Receipts = entry.Traits.Receipts == ReceiptLevel.Full ? [.. found.Receipts.Select(Of)] : null,
            Deadlines = found.Deadlines.Count > 0 ? [.. found.Deadlines.Select(Of)] : null,
            Events = origins is { Count: > 0 }
                ? [.. origins.Select(o => new OriginAnswer { Source = o.Source, Id = o.Id, Rule = o.Rule })]
                : null,
            Timeline = [new TimelineEntry { State = "stored", Time = entry.Time }, .. found.Timeline.Select(Of)],
        };
    }

    static PersonReceiptAnswer Of(PersonReceipt receipt) => new()
    {
        User = ErasedName.Shown(receipt.User),
        Device = receipt.Device,
        Received = receipt.Received,
        Handled = receipt.Handled,
        Read = receipt.Read,
    };

    static DeadlineAnswer Of(DeadlineRow deadline) => new()
    {
        By = deadline.Terms.By.ToString().ToLowerInvariant(),
        Who = deadline.Terms.Each ? "each" : "anyone",
        At = deadline.At,
        State = deadline.State.ToString().ToLowerInvariant(),
        Ended = deadline.Ended,
    };

    static TimelineEntry Of(EntryRow change)
    {
        using var body = new StoredBody(change.Body);
        bool tells = change.Kind != EntryKind.Released;
        return new TimelineEntry
        {
            State = OutgoingEntry.NameOf(change.Kind),
            Time = change.Time,
            By = tells ? body.Text("by") : null,
            Until = tells ? body.Text("until") : null,
        };
    }
}
