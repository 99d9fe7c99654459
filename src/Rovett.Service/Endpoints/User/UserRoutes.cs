using Rovett.Service.Credentials;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.User;

/// <summary>Endpoints for users' devices, with a token; and a user's inbox for backends.</summary>
static class UserRoutes
{
    const string Id = "01KB8Q0M5H7C4B9A533F1C0E7D", Says = "The notification's id.";

    public static IServiceCollection AddUserEndpoints(this IServiceCollection services) => services
        .AddRecords(UserJson.Default).AddSingleton<InboxApi>().AddSingleton<ChoicesApi>().AddSingleton<PersonInboxApi>();

    public static void MapUser(this IEndpointRouteBuilder routes)
    {
        MapInbox(routes, routes.ServiceProvider.GetRequiredService<InboxApi>());
        MapChoices(routes, routes.ServiceProvider.GetRequiredService<ChoicesApi>());
        MapInboxes(routes, routes.ServiceProvider.GetRequiredService<PersonInboxApi>());
    }

    static void MapInboxes(IEndpointRouteBuilder routes, PersonInboxApi inboxes) =>
        routes.ForKeys("read").WithTags("Users").Get<PersonInboxQuery, PersonInboxAnswer>("/v1/inboxes", inboxes.ShowInbox)
            .AnswersHeader("Link", "The next page (RFC 8288).",
            "</v1/inboxes?user=mara&limit=50&page=7Hw2mQ0bV4k9dKx2Qp0aZ4>; rel=\"next\"")
            .Refuses(404, "unknown-user");

    static void MapInbox(IEndpointRouteBuilder routes, InboxApi inbox)
    {
        var user = routes.ForUsers().WithTags("Inbox");
        user.Get<InboxQuery, InboxAnswer>("/v1/inbox", inbox.ListInbox)
            .AnswersHeader("Link", "The next page (RFC 8288).", "</v1/inbox?page=7Hw2mQ0bV4k9dKx2Qp0aZ4&limit=50>; rel=\"next\"");
        user.Get<TotalsQuery, TotalsAnswer>("/v1/inbox/totals", inbox.ShowTotals);
        user.Get("/v1/inbox/{id}", inbox.ShowInboxItem).WithPath("id", Says, Id).Refuses(404, "unknown-notification");
        user.Post("/v1/inbox/marks", inbox.Mark).Takes<MarksRequest>().Refuses(404, "unknown-notification")
            .Refuses(422, "malformed-cursor", "foreign-cursor");
        user.Post("/v1/inbox/{id}/take", inbox.Take).WithPath("id", Says, Id).Refuses(404, "unknown-notification")
            .Refuses(409, "already-taken").Refuses(422, "not-takeable");
        user.Post("/v1/inbox/{id}/release", inbox.Release).WithPath("id", Says, Id).Refuses(404, "unknown-notification")
            .Refuses(409, "not-taken").Refuses(422, "not-takeable");
    }

    static void MapChoices(IEndpointRouteBuilder routes, ChoicesApi choices)
    {
        var user = routes.ForUsers().WithTags("Choices");
        user.Get("/v1/mutes", choices.ListMutes);
        user.Post<MuteRequest, MuteList>("/v1/mutes", choices.Mute).Refuses(422, "too-many-mutes");
        user.Delete<MuteRequest, MuteList>("/v1/mutes", choices.Unmute);
        user.Get("/v1/choices", choices.ShowChoices).AnswersHeader("ETag", "The rev of the choices.", "\"7\"");
        user.Put<ChoicesRequest, ChoicesAnswer>("/v1/choices", choices.PutChoices).Refuses(412, "other-version")
            .AnswersHeader("ETag", "The rev of the choices.", "\"8\"");
        user.Get("/v1/follows", choices.ListFollows);
        user.Post<FollowRequest, FollowList>("/v1/follows", choices.Follow).Refuses(403, "not-allowed")
            .Refuses(422, "too-many-follows").Refuses(503, "decision-unavailable");
        user.Delete<FollowRequest, FollowList>("/v1/follows", choices.Unfollow);
        routes.ForUsers().WithTags("Live").Post("/v1/tickets", choices.CreateTicket).Answers(201).Refuses(429, "too-many-tickets");
    }
}
