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
        IReadOnlyList<StoredOrigin>? origins = null)
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
            Always = body.Flag("always") ? true : null,
            Data = body.Any("data"),
            Carry = body.Text("carry"),
            Expires = body.Time("expires"),
            Due = body.Time("due"),
            People = Of(found.People),
            ReceiptsKept = entry.Traits.Receipts.ToString().ToLowerInvariant(),
            Taken = Of(found.Taken, clock),
            Receipts = entry.Traits.Receipts == ReceiptLevel.Full ? [.. found.Receipts.Select(Of)] : null,
            Deadlines = found.Deadlines.Count > 0 ? [.. found.Deadlines.Select(Of)] : null,
            Events = origins is { Count: > 0 }
                ? [.. origins.Select(o => new OriginAnswer { Source = o.Source, Id = o.Id, Rule = o.Rule, Time = o.Time, Trace = o.Trace })]
                : null,
            Timeline = [new TimelineEntry { State = "stored", Time = entry.Time }, .. found.Timeline.Select(Of)],
        };
    }

    /// <summary>A notification in a list.</summary>
    public static ListedNotificationAnswer Of(ListedNotification listed, ServiceClock clock)
    {
        var entry = listed.Item.Entry;
        using var body = new StoredBody(entry.Body);
        return new ListedNotificationAnswer
        {
            Id = entry.Id.ToString(),
            Position = entry.Position.Value,
            Time = entry.Time,
            To = [.. entry.Addressing.To],
            Type = body.Text("type")!,
            Subject = body.Text("subject"),
            Title = body.Text("title")!,
            Urgency = body.Text("urgency"),
            State = listed.Change is { } change ? OutgoingEntry.NameOf(change) : "stored",
            Taken = Of(listed.Item.Taken, clock),
            For = listed.For,
            People = Of(listed.Item.People),
        };
    }

    static PeopleAnswer Of(PeopleCounts people) => new()
    {
        Received = people.Received,
        Handled = people.Handled,
        Read = people.Read,
    };

    static TakenAnswer? Of((string User, StoredTime? Until)? taken, ServiceClock clock) => taken is var (user, until)
        ? new TakenAnswer { By = user, Until = until is { } end ? clock.Shown(end) : null } : null;

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
        Otherwise = deadline.Otherwise.Count > 0 ? [.. deadline.Otherwise.Select(Of)] : null,
    };

    static OtherwiseAnswer Of(OtherwiseRow row) => new()
    {
        To = row.What is OtherwiseNotification n ? [.. n.Draft.To.Select(a => a.ToString())] : null,
        Webhook = (row.What as OtherwiseWebhook)?.Name,
        Email = (row.What as OtherwiseMail)?.To,
        State = row.State switch
        {
            OtherwiseState.SetAside => "set-aside",
            var state => state.ToString().ToLowerInvariant(),
        },
        Time = row.Time,
        Notification = row.Sent?.ToString(),
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
