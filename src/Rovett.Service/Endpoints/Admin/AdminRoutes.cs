using Rovett.Service.Credentials;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>Endpoints for administrators: credentials, settings, deciders, the clock and spaces.</summary>
static class AdminRoutes
{
    public static IServiceCollection AddAdminEndpoints(this IServiceCollection services) => services
        .AddRecords(AdminJson.Default)
        .AddSingleton<KeysApi>().AddSingleton<SigningKeysApi>().AddSingleton<SettingsApi>().AddSingleton<AuditApi>()
        .AddSingleton<DecidersApi>().AddSingleton<ClockApi>().AddSingleton<SpacesApi>()
        .AddSingleton<ClusterApi>();

    public static void MapAdmin(this IEndpointRouteBuilder routes)
    {
        var p = routes.ServiceProvider;
        MapKeys(routes, p.GetRequiredService<KeysApi>(), p.GetRequiredService<SigningKeysApi>());
        MapDeciders(routes, p.GetRequiredService<DecidersApi>());
        MapSpaces(routes, p.GetRequiredService<SpacesApi>());
        MapCluster(routes, p.GetRequiredService<ClusterApi>());
        MapOperation(routes, p.GetRequiredService<SettingsApi>(), p.GetRequiredService<AuditApi>(), p.GetRequiredService<ClockApi>());
    }

    static void MapKeys(IEndpointRouteBuilder routes, KeysApi keys, SigningKeysApi signing)
    {
        var admin = routes.ForKeys("admin").WithTags("Keys");
        admin.Get("/v1/keys", keys.ListKeys);
        admin.Post<KeyRequest, KeyAnswer>("/v1/keys", keys.CreateKey).Answers(201);
        admin.Get("/v1/keys/{id}", keys.ShowKey).WithPath("id", "The key's id.", "k4Zt9qX2mQ0bV4k9dKx2Qp").Refuses(404, "unknown-key");
        admin.Delete("/v1/keys/{id}", keys.RemoveKey).WithPath("id", "The key's id.", "k4Zt9qX2mQ0bV4k9dKx2Qp").Refuses(404, "unknown-key");
        admin.Post<RotateRequest, KeyAnswer>("/v1/keys/{id}/rotate", keys.RotateKey)
            .WithPath("id", "The key's id.", "k4Zt9qX2mQ0bV4k9dKx2Qp")
            .Answers(201).Refuses(404, "unknown-key");
        admin.Get("/v1/signing-keys", signing.ListSigningKeys);
        admin.Post<SigningKeyRequest, SigningKeyAnswer>("/v1/signing-keys", signing.AddSigningKey).Answers(201)
            .Refuses(409, "signing-key-exists").Refuses(422, "too-many-signing-keys");
        admin.Get("/v1/signing-keys/{name}", signing.ShowSigningKey).WithPath("name", "The key's name.", "backend 2026")
            .Refuses(404, "unknown-signing-key");
        admin.Delete("/v1/signing-keys/{name}", signing.RemoveSigningKey).WithPath("name", "The key's name.", "backend 2026")
            .Refuses(404, "unknown-signing-key");
    }

    static void MapDeciders(IEndpointRouteBuilder routes, DecidersApi deciders)
    {
        const string says = "The decider's name.", example = "rosters";
        var admin = routes.ForKeys("admin").WithTags("Policies and grants");
        admin.Get("/v1/deciders", deciders.ListDeciders);
        admin.Get("/v1/deciders/{name}", deciders.ShowDecider).WithPath("name", says, example).Refuses(404, "unknown-decider");
        admin.Put<DeciderRequest, DeciderAnswer>("/v1/deciders/{name}", deciders.PutDecider).WithPath("name", says, example)
            .Answers(200, 201).Refuses(422, "too-many-deciders");
        admin.Delete("/v1/deciders/{name}", deciders.RemoveDecider).WithPath("name", says, example).Refuses(404, "unknown-decider");
    }

    static void MapSpaces(IEndpointRouteBuilder routes, SpacesApi spaces)
    {
        var admin = routes.ForMainKeys("admin").WithTags("Spaces");
        admin.Get("/v1/spaces", spaces.ListSpaces);
        admin.Post<SpaceRequest, SpaceCreated>("/v1/spaces", spaces.CreateSpace).Answers(201)
            .Refuses(409, "space-exists", "space-name-rests").Refuses(422, "too-many-spaces");
        admin.Get("/v1/spaces/{name}", spaces.ShowSpace).WithPath("name", "The space.", "harbour");
        admin.Delete("/v1/spaces/{name}", spaces.RemoveSpace).WithPath("name", "The space.", "harbour").Refuses(409, "space-main");
    }

    static void MapCluster(IEndpointRouteBuilder routes, ClusterApi cluster)
    {
        var admin = routes.ForMainKeys("admin").WithTags("Cluster");
        admin.Get("/v1/cluster", cluster.ListNodes).Refuses(409, "no-cluster");
        admin.Post<MoveRequest, ClusterAnswer>("/v1/cluster/moves", cluster.MoveSpace).Refuses(404, "unknown-space", "unknown-node")
            .Refuses(409, "no-cluster");
        admin.Post<DrainRequest, ClusterAnswer>("/v1/cluster/drains", cluster.DrainNode).Refuses(404, "unknown-node")
            .Refuses(409, "no-cluster");
    }

    static void MapOperation(IEndpointRouteBuilder routes, SettingsApi settings, AuditApi audit, ClockApi clock)
    {
        var admin = routes.ForKeys("admin").WithTags("Operation");
        admin.Get("/v1/settings", settings.ShowSettings);
        admin.Patch("/v1/settings", settings.UpdateSettings).Takes<SettingsPatch>();
        admin.Get<AuditQuery, AuditPage>("/v1/audit", audit.ListAudit);
        // The clock is everybody's.
        routes.ForMainKeys("admin").WithTags("Operation").Post("/v1/clock/confirm", clock.ConfirmClock);
        routes.ForKeys("read").WithTags("Operation").Get("/v1/clock", clock.ShowClock);
    }
}
