using Rovett.Service.Credentials;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>What backends call, with an API key.</summary>
static class BackendRoutes
{
    public static IServiceCollection AddBackendEndpoints(this IServiceCollection services) => services
        .AddSingleton<BackendApi>().AddSingleton<DirectoryApi>().AddSingleton<TopicApi>().AddSingleton<ReceiptApi>();

    public static void MapBackend(this IEndpointRouteBuilder routes)
    {
        var p = routes.ServiceProvider;
        MapNotifications(routes, p.GetRequiredService<BackendApi>());
        MapDirectory(routes, p.GetRequiredService<DirectoryApi>());
        MapTopics(routes, p.GetRequiredService<TopicApi>());
        MapReceipts(routes, p.GetRequiredService<ReceiptApi>());
    }

    static void MapNotifications(IEndpointRouteBuilder routes, BackendApi backend)
    {
        var send = routes.ForKeys("send");
        send.MapPost("/v1/notifications", backend.Send);
        send.MapDelete("/v1/notifications/{id}", backend.Withdraw);
        var read = routes.ForKeys("read");
        read.MapGet("/v1/notifications/{id}", backend.Show);
        read.MapGet("/v1/status", backend.Status);
        read.MapGet("/v1/sessions", backend.Sessions);
        read.MapGet("/v1/limits", backend.ShowLimits);
    }

    static void MapDirectory(IEndpointRouteBuilder routes, DirectoryApi directory)
    {
        var read = routes.ForKeys("read");
        read.MapGet("/v1/users", directory.ListUsers);
        read.MapGet("/v1/users/{id}", directory.ShowUser);
        read.MapGet("/v1/roles", directory.ListRoles);
        read.MapGet("/v1/roles/{role}", directory.ShowRole);
        var admin = routes.ForKeys("admin");
        admin.MapPost("/v1/users", directory.ImportUsers);
        admin.MapPut("/v1/users", directory.PutUser);
        admin.MapDelete("/v1/users", directory.EraseUser);
        admin.MapPost("/v1/users/sign-out", directory.SignOut);
        admin.MapPut("/v1/users/{id}", directory.PutUser);
        admin.MapDelete("/v1/users/{id}", directory.EraseUser);
        admin.MapPost("/v1/users/{id}/sign-out", directory.SignOut);
        admin.MapPut("/v1/roles", directory.PutRole);
        admin.MapPut("/v1/roles/{role}", directory.PutRole);
    }

    static void MapTopics(IEndpointRouteBuilder routes, TopicApi topics)
    {
        var read = routes.ForKeys("read");
        read.MapGet("/v1/policies", topics.ShowPolicies);
        read.MapGet("/v1/grants", topics.ListGrants);
        read.MapGet("/v1/explain", topics.Explain);
        var admin = routes.ForKeys("admin");
        admin.MapPut("/v1/policies", topics.PutPolicies);
        admin.MapPost("/v1/grants", topics.MakeGrant);
        admin.MapDelete("/v1/grants/{grant}", topics.EndGrant);
    }

    static void MapReceipts(IEndpointRouteBuilder routes, ReceiptApi receipts)
    {
        routes.ForKeys("read").MapGet("/v1/receipts", receipts.Receipts);
        var admin = routes.ForKeys("admin");
        admin.MapPut("/v1/webhooks/{name}", receipts.PutWebhook);
        admin.MapGet("/v1/webhooks/{name}", receipts.ShowWebhook);
        admin.MapDelete("/v1/webhooks/{name}", receipts.RemoveWebhook);
        admin.MapGet("/v1/webhooks", receipts.ListWebhooks);
    }
}
