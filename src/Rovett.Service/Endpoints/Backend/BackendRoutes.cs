using Rovett.Service.Credentials;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Endpoints for backends, with an API key.</summary>
static class BackendRoutes
{
    const string Cursor = "8fWm2QkYyXI0mz47a5PVrz", NotificationExample = "01KB8Q0M5H7C4B9A533F1C0E7D";

    public static IServiceCollection AddBackendEndpoints(this IServiceCollection services) => services
        .AddRecords(BackendJson.Default)
        .AddSingleton<NotificationsApi>()
        .AddSingleton<NotificationSearchApi>().AddSingleton<StatusApi>().AddSingleton<MetersApi>().AddSingleton<ChannelsApi>()
        .AddSingleton<UsersApi>().AddSingleton<UserImport>()
        .AddSingleton<RolesApi>().AddSingleton<PoliciesApi>().AddSingleton<GrantsApi>().AddSingleton<ExplainApi>()
        .AddSingleton<ReceiptsApi>().AddSingleton<WebhooksApi>();

    public static void MapBackend(this IEndpointRouteBuilder routes)
    {
        var p = routes.ServiceProvider;
        MapNotifications(routes, p.GetRequiredService<NotificationsApi>(), p.GetRequiredService<NotificationSearchApi>());
        MapUsers(routes, p.GetRequiredService<UsersApi>(), p.GetRequiredService<UserImport>());
        MapRoles(routes, p.GetRequiredService<RolesApi>());
        MapChannels(routes, p.GetRequiredService<ChannelsApi>());
        MapPolicies(routes, p.GetRequiredService<PoliciesApi>(), p.GetRequiredService<ExplainApi>());
        MapGrants(routes, p.GetRequiredService<GrantsApi>());
        MapReceipts(routes, p.GetRequiredService<ReceiptsApi>());
        MapWebhooks(routes, p.GetRequiredService<WebhooksApi>());
        MapStatus(routes, p.GetRequiredService<StatusApi>(), p.GetRequiredService<MetersApi>());
    }

    static void MapNotifications(IEndpointRouteBuilder routes, NotificationsApi notifications, NotificationSearchApi search)
    {
        var send = routes.ForKeys("send").WithTags("Notifications");
        var sending = send.ByHand("POST", "/v1/notifications", notifications.Send).Named("sendNotification")
            .Takes<NotificationRequest>(description: "A notification; or several: an array, or application/x-ndjson with one a line.")
            .Answers(200, 201, 202).AnswersWith(typeof(SendAnswer))
            .TakesHeader("Idempotency-Key", "Makes a repeat harmless: 1 to 255 printable ASCII characters, kept for 48 hours.",
            "check-4711")
            .TakesHeader("Rovett-Session", "The session that caused it, which is not sent it.", "7Jx2mQ0bV4k9dKx2Qp0aZ4")
            .AnswersHeader("RateLimit-Policy", "How many sends the key may make a second.", "\"sends\";q=200;w=1")
            .AnswersHeader("RateLimit", "How many it may make now, and in how many seconds more.", "\"sends\";r=199;t=0")
            .Refuses(403, "api-key-narrowed")
            .Refuses(422, "unknown-address", "idempotency-key-reused", "too-many-audiences", "deadline-for-too-many")
            .Refuses(429, "too-many-sends").Refuses(503, "overloaded");
        sending.Query = typeof(SendQuery);
        send.Delete("/v1/notifications/{id}", notifications.Withdraw).Named("withdrawNotification")
            .WithPath("id", "The notification's id.", NotificationExample).Refuses(404, "unknown-notification");
        var read = routes.ForKeys("read").WithTags("Notifications");
        read.Get<NotificationQuery, NotificationList>("/v1/notifications", search.ListNotifications)
            .AnswersHeader("Link", "The next page (RFC 8288).", "</v1/notifications?type=engine.*&before=4711&limit=50>; rel=\"next\"");
        read.Get("/v1/notifications/{id}", notifications.ShowNotification)
            .WithPath("id", "The notification's id.", NotificationExample).Refuses(404, "unknown-notification");
    }

    static void MapUsers(IEndpointRouteBuilder routes, UsersApi users, UserImport import)
    {
        const string name = "id", says = "The user's id.", example = "mara";
        var read = routes.ForKeys("read").WithTags("Users");
        read.Get<UserQuery, object>("/v1/users", users.ListUsers).AnswersWith(typeof(UserPage)).AnswersWith(typeof(UserAnswer))
            .AnswersHeader("Link", "The next page (RFC 8288).", "</v1/users?after=mara&limit=50>; rel=\"next\"")
            .Refuses(404, "unknown-user");
        read.Get("/v1/users/{id}", users.ShowUser).WithPath(name, says, example).Refuses(404, "unknown-user");
        var admin = routes.ForKeys("admin").WithTags("Users");
        admin.Post("/v1/users", import.ImportUsers).Takes<UserRequest>("application/x-ndjson", "One user a line.").Answers(200, 422)
            .AnswersWith(typeof(ImportAnswer), "application/x-ndjson", "A line now and then; the result as the last.")
            .Refuses(413, "line-too-long");
        admin.Put<UserRequest, UserAnswer>("/v1/users", users.PutUser).Named("putUserByQuery").Query = typeof(UserIdQuery);
        admin.Put<UserRequest, UserAnswer>("/v1/users/{id}", users.PutUser).WithPath(name, says, example);
        admin.Delete("/v1/users", users.EraseUser).Named("eraseUserByQuery").Refuses(404, "unknown-user").Query = typeof(UserIdQuery);
        admin.Delete("/v1/users/{id}", users.EraseUser).WithPath(name, says, example).Refuses(404, "unknown-user");
        admin.Post("/v1/users/sign-out", users.SignOut).Named("signOutByQuery").Query = typeof(UserIdQuery);
        admin.Post("/v1/users/{id}/sign-out", users.SignOut).Named("signOutUser").WithPath(name, says, example);
    }

    static void MapRoles(IEndpointRouteBuilder routes, RolesApi roles)
    {
        const string says = "The role.", example = "engineer";
        var read = routes.ForKeys("read").WithTags("Roles");
        read.Get<RoleQuery, object>("/v1/roles", roles.ListRoles).AnswersWith(typeof(RoleList)).AnswersWith(typeof(RoleAnswer))
            .Refuses(404, "unknown-role");
        read.Get("/v1/roles/{role}", roles.ShowRole).WithPath("role", says, example).Refuses(404, "unknown-role");
        var admin = routes.ForKeys("admin").WithTags("Roles");
        admin.Put<RoleRequest, RoleAnswer>("/v1/roles", roles.PutRole).Named("putRoleByQuery").Query = typeof(RoleQuery);
        admin.Put<RoleRequest, RoleAnswer>("/v1/roles/{role}", roles.PutRole).WithPath("role", says, example);
    }

    static void MapChannels(IEndpointRouteBuilder routes, ChannelsApi channels) =>
        routes.ForKeys("read").WithTags("Channels").Get<ChannelQuery, object>("/v1/channels", channels.ListChannels)
            .AnswersWith(typeof(ChannelPage)).AnswersWith(typeof(ChannelAnswer))
            .AnswersHeader("Link", "The next page (RFC 8288).", "</v1/channels?after=role:engineer&limit=50>; rel=\"next\"");

    static void MapPolicies(IEndpointRouteBuilder routes, PoliciesApi policies, ExplainApi explain)
    {
        var read = routes.ForKeys("read").WithTags("Policies and grants");
        read.Get<PolicyQuery, PolicyAnswer>("/v1/policies", policies.ShowPolicies).Refuses(404, "unknown-version");
        read.Get<ExplainQuery, ExplainAnswer>("/v1/explain", explain.Explain);
        routes.ForKeys("admin").WithTags("Policies and grants").Put("/v1/policies", policies.PutPolicies).Takes<PolicyDocument>()
            .TakesHeader("If-Match", "Only in place of this version.", "\"41\"").AnswersHeader("ETag", "The version.", "\"42\"")
            .Refuses(412, "other-version").Query = typeof(LoadQuery);
    }

    static void MapGrants(IEndpointRouteBuilder routes, GrantsApi grants)
    {
        const string says = "The grant's number.";
        var read = routes.ForKeys("read").WithTags("Policies and grants");
        read.Get<GrantQuery, GrantList>("/v1/grants", grants.ListGrants);
        read.Get("/v1/grants/{grant}", grants.ShowGrant).WithPath("grant", says, 43).Refuses(404, "unknown-grant");
        var admin = routes.ForKeys("admin").WithTags("Policies and grants");
        admin.Post<GrantRequest, GrantAnswer>("/v1/grants", grants.CreateGrant).Answers(201);
        admin.Delete("/v1/grants/{grant}", grants.RemoveGrant).WithPath("grant", says, 43).Refuses(404, "unknown-grant");
    }

    static void MapReceipts(IEndpointRouteBuilder routes, ReceiptsApi receipts) =>
        routes.ForKeys("read").WithTags("Receipts").ByHand("GET", "/v1/receipts", receipts.ListReceipts)
            .AnswersWith(typeof(ReceiptPage))
            .AnswersWith(null, "text/event-stream", "Events 'opened', 'gap' and 'receipt', each with one receipt as its data.")
            .TakesHeader("Last-Event-ID", "Where a stream resumes.", Cursor)
            .Query = typeof(ReceiptQuery);

    static void MapWebhooks(IEndpointRouteBuilder routes, WebhooksApi webhooks)
    {
        const string says = "The webhook's name.", example = "backend";
        var admin = routes.ForKeys("admin").WithTags("Receipts");
        admin.Get("/v1/webhooks", webhooks.ListWebhooks);
        admin.Get("/v1/webhooks/{name}", webhooks.ShowWebhook).WithPath("name", says, example).Refuses(404, "unknown-webhook");
        admin.Put<WebhookRequest, WebhookAnswer>("/v1/webhooks/{name}", webhooks.PutWebhook).WithPath("name", says, example)
            .Answers(200, 201).Refuses(422, "too-many-webhooks");
        admin.Delete("/v1/webhooks/{name}", webhooks.RemoveWebhook).WithPath("name", says, example).Refuses(404, "unknown-webhook");
    }

    static void MapStatus(IEndpointRouteBuilder routes, StatusApi status, MetersApi meters)
    {
        var read = routes.ForKeys("read").WithTags("Operation");
        read.Get("/v1/status", status.ShowStatus);
        read.Get("/v1/sessions", status.ListSessions);
        read.Get("/v1/limits", status.ListLimits);
        read.Get<MetersQuery, MetersAnswer>("/v1/meters", meters.ShowMeters);
        routes.ForKeys("admin").WithTags("Operation").Delete("/v1/sessions/{session}", status.EndSession)
            .WithPath("session", "The session's id.", "7Jx2mQ0bV4k9dKx2Qp0aZ4").Refuses(404, "unknown-session");
    }
}
