using Rovett.Service.Credentials;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>What administrators call: credentials, settings, deciders, the clock and spaces.</summary>
static class AdminRoutes
{
    public static IServiceCollection AddAdminEndpoints(this IServiceCollection services) => services
        .AddSingleton<AccessApi>().AddSingleton<DeciderApi>().AddSingleton<ClockApi>().AddSingleton<SpaceApi>();

    public static void MapAdmin(this IEndpointRouteBuilder routes)
    {
        var p = routes.ServiceProvider;
        var admin = routes.ForKeys("admin");
        MapCredentials(admin, p.GetRequiredService<AccessApi>());
        MapDeciders(admin, p.GetRequiredService<DeciderApi>());
        var clock = p.GetRequiredService<ClockApi>();
        routes.ForKeys("read").MapGet("/v1/clock", clock.Show);
        admin.MapPost("/v1/clock/confirm", clock.Confirm);
        MapSpaces(routes.ForMainKeys("admin"), p.GetRequiredService<SpaceApi>());
    }

    static void MapCredentials(RouteGroupBuilder admin, AccessApi access)
    {
        admin.MapPost("/v1/keys", access.MakeKey);
        admin.MapGet("/v1/keys", access.ListKeys);
        admin.MapDelete("/v1/keys/{id}", access.RevokeKey);
        admin.MapPost("/v1/keys/{id}/rotate", access.RotateKey);
        admin.MapPost("/v1/signing-keys", access.AddSigningKey);
        admin.MapGet("/v1/signing-keys", access.ListSigningKeys);
        admin.MapDelete("/v1/signing-keys/{name}", access.RemoveSigningKey);
        admin.MapGet("/v1/settings", access.ShowSettings);
        admin.MapPatch("/v1/settings", access.PatchSettings);
        admin.MapGet("/v1/audit", access.Audit);
    }

    static void MapDeciders(RouteGroupBuilder admin, DeciderApi deciders)
    {
        admin.MapPut("/v1/deciders/{name}", deciders.Put);
        admin.MapGet("/v1/deciders/{name}", deciders.Show);
        admin.MapDelete("/v1/deciders/{name}", deciders.Remove);
        admin.MapGet("/v1/deciders", deciders.List);
    }

    static void MapSpaces(RouteGroupBuilder admin, SpaceApi spaces)
    {
        admin.MapGet("/v1/spaces", spaces.List);
        admin.MapPost("/v1/spaces", spaces.Make);
        admin.MapDelete("/v1/spaces/{name}", spaces.Remove);
    }
}
