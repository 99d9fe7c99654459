using System.Globalization;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers;
using Rovett.Core.Notifications;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Lists and finds notifications that were sent.</summary>
public sealed class NotificationSearchApi(SqlHistory history, ServiceClock clock)
{
    const int UsualPage = 50;

    /// <summary>Lists notifications, newest first.</summary>
    /// <remarks>Of those that fit all that is given. The next page is in the header <c>Link</c>.</remarks>
    public Task<NotificationList> ListNotifications(HttpContext context, Given<NotificationQuery> query)
    {
        var space = context.KeyCaller().Space;
        var (since, until) = (TimeOf(query, "since", query.Value.Since), TimeOf(query, "until", query.Value.Until));
        if (query.Value.Address is { } address && Address.TryParse(address, out _) is { } wrong) query.Wrong("address", wrong);
        var wanted = query.Sound();
        int limit = wanted.Limit ?? UsualPage;
        var page = history.Search(space.Id, new NotificationSearch
        {
            Before = wanted.Before ?? long.MaxValue,
            Limit = limit,
            Type = wanted.Type,
            Address = wanted.Address,
            Subject = wanted.Subject,
            Text = wanted.Text,
            State = StateOf(wanted.State),
            Since = since,
            Until = until,
        });
        if (page.Next is { } next)
        {
            var others = context.Request.Query.Where(q => q.Key is not ("before" or "limit"))
                .Select(q => $"{Uri.EscapeDataString(q.Key)}={Uri.EscapeDataString(q.Value.ToString())}&");
            context.Response.Headers.Link = string.Create(CultureInfo.InvariantCulture,
                $"<{space.PathPrefix}/v1/notifications?{string.Concat(others)}before={next}&limit={limit}>; rel=\"next\"");
        }
        return Task.FromResult(new NotificationList { Notifications = [.. page.Found.Select(n => NotificationAnswers.Of(n, clock))] });
    }

    static EntryKind? StateOf(string? word) => word switch
    {
        null => null,
        "stored" => EntryKind.Notification,
        "taken" => EntryKind.Taken,
        "withdrawn" => EntryKind.Withdrawn,
        "replaced" => EntryKind.Replaced,
        _ => EntryKind.Expired,
    };

    static StoredTime? TimeOf(Given<NotificationQuery> query, string name, string? text)
    {
        if (text is null) return null;
        if (DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var time)
            && time >= DateTimeOffset.UnixEpoch)
        {
            return StoredTime.From(time);
        }
        query.Wrong(name, "must be a time such as 2026-11-23T08:00:00Z (RFC 3339)");
        return null;
    }
}
