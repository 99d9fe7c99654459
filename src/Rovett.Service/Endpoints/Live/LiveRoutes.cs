namespace Rovett.Service.Endpoints.Live;

/// <summary>Live connections: WebSocket, server-sent events and long poll. The endpoint looks at credentials itself,
/// because a WebSocket may show its token in its first message.</summary>
static class LiveRoutes
{
    public static IServiceCollection AddLiveEndpoints(this IServiceCollection services) => services.AddSingleton<LiveEndpoint>();

    public static void MapLive(this IEndpointRouteBuilder routes)
    {
        var live = routes.ServiceProvider.GetRequiredService<LiveEndpoint>();
        routes.MapMethods("/v1/live", ["GET", "CONNECT"], live.Connect);
        routes.MapGet("/v1/live/{session}", live.Poll);
        routes.MapPost("/v1/live/{session}", live.Post);
    }
}
