using Rovett.Service.Credentials;
using Rovett.Service.Events;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Events;

/// <summary>Endpoints for events and rules, with an API key.</summary>
static class EventsRoutes
{
    public static IServiceCollection AddEventEndpoints(this IServiceCollection services) => services
        .AddRecords(EventsJson.Default).AddSingleton<RulesInForce>().AddSingleton<EventChecks>()
        .AddSingleton<EventsApi>().AddSingleton<RulesApi>().AddSingleton<TypesApi>().AddSingleton<SetAsideApi>();

    public static void MapEvents(this IEndpointRouteBuilder routes)
    {
        var p = routes.ServiceProvider;
        MapPublishing(routes, p.GetRequiredService<EventsApi>());
        MapRules(routes, p.GetRequiredService<RulesApi>());
        MapTypes(routes, p.GetRequiredService<TypesApi>());
        MapSetAside(routes, p.GetRequiredService<SetAsideApi>());
    }

    static void MapPublishing(IEndpointRouteBuilder routes, EventsApi events)
    {
        var publishing = routes.ForKeys("send").WithTags("Events").Post("/v1/events", events.PublishEvents)
            .Takes<EventRequest>("application/cloudevents+json", "An event; or several: application/cloudevents-batch+json, " +
            "application/x-ndjson; or any content with the attributes as ce- headers.")
            .AnswersWith(typeof(EventOutcomeAnswer)).AnswersWith(typeof(EventResultList))
            .TakesHeader("traceparent", "The trace (W3C Trace Context) of events that name none.",
            "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")
            .AnswersHeader("RateLimit-Policy", "How many sends the key may make a second.", "\"sends\";q=200;w=1")
            .AnswersHeader("RateLimit", "How many it may make now, and in how many seconds more.", "\"sends\";r=199;t=0")
            .Refuses(403, "api-key-narrowed").Refuses(413, "event-too-large", "line-too-long").Refuses(415, "not-an-event")
            .Refuses(422, "event-differs").Refuses(429, "too-many-sends")
            .Refuses(503, "overloaded", "set-aside-full", "too-many-gatherings");
        publishing.Query = typeof(PublishQuery);
        routes.ForKeys("read").WithTags("Events").Get<EventQuery, object>("/v1/events", events.ListEvents)
            .AnswersWith(typeof(EventPage)).AnswersWith(typeof(EventAnswer))
            .AnswersHeader("Link", "The next page (RFC 8288).", "</v1/events?type=engine.*&limit=50&page=WyIxNz…>; rel=\"next\"")
            .Refuses(404, "unknown-event");
    }

    static void MapRules(IEndpointRouteBuilder routes, RulesApi rules)
    {
        routes.ForKeys("read").WithTags("Rules").Get<RulesQuery, RulesAnswer>("/v1/rules", rules.ShowRules).Refuses(404, "unknown-version");
        var admin = routes.ForKeys("admin").WithTags("Rules");
        admin.Put("/v1/rules", rules.PutRules).Takes<RulesDocument>()
            .TakesHeader("If-Match", "Only in place of this version.", "\"41\"").AnswersHeader("ETag", "The version.", "\"44\"")
            .Refuses(412, "other-version").Query = typeof(LoadRulesQuery);
        admin.Post<TryRequest, TryAnswer>("/v1/rules/try", rules.TryRules);
        routes.MapGroup("").WithTags("Rules").ByHand("GET", "/v1/rules/schema", rules.ShowRuleSchema)
            .AnswersWith(typeof(System.Text.Json.JsonElement), "application/json", "A JSON Schema.");
    }

    static void MapTypes(IEndpointRouteBuilder routes, TypesApi types)
    {
        routes.ForKeys("read").WithTags("Types").Get("/v1/types", types.ShowTypes).AnswersHeader("ETag", "The version.", "\"45\"");
        routes.ForKeys("admin").WithTags("Types").Put("/v1/types", types.PutTypes).Takes<TypesDocument>()
            .TakesHeader("If-Match", "Only in place of this version.", "\"41\"").AnswersHeader("ETag", "The version.", "\"45\"")
            .Refuses(412, "other-version").Query = typeof(LoadRulesQuery);
    }

    static void MapSetAside(IEndpointRouteBuilder routes, SetAsideApi aside)
    {
        const string says = "Its number.";
        var admin = routes.ForKeys("admin").WithTags("Set aside");
        admin.Get<SetAsideQuery, SetAsideList>("/v1/set-aside", aside.ListSetAside);
        admin.Get("/v1/set-aside/{number}", aside.ShowSetAside).WithPath("number", says, 7).Refuses(404, "unknown-set-aside");
        admin.Post<RetryRequest, RetryAnswer>("/v1/set-aside/{number}/retry", aside.RetrySetAside).WithPath("number", says, 7)
            .Refuses(404, "unknown-set-aside");
        admin.Post<RetryManyRequest, RetryList>("/v1/set-aside/retry", aside.RetryMany).Named("retryManySetAside");
        admin.Delete("/v1/set-aside/{number}", aside.DropSetAside).WithPath("number", says, 7).Refuses(404, "unknown-set-aside");
        admin.Post<RetryManyRequest, DropAnswer>("/v1/set-aside/drop", aside.DropMany).Named("dropManySetAside");
    }
}
