using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Live;

/// <summary>Live connections: WebSocket, server-sent events and long poll. The endpoint looks at credentials itself,
/// because a WebSocket may show its token in its first message; and what goes through it is written by hand, because every
/// notification does.</summary>
static class LiveRoutes
{
    public static IServiceCollection AddLiveEndpoints(this IServiceCollection services) => services.AddSingleton<LiveEndpoint>();

    public static void MapLive(this IEndpointRouteBuilder routes)
    {
        var live = routes.ServiceProvider.GetRequiredService<LiveEndpoint>();
        var group = routes.MapGroup("").WithTags("Live");
        group.ByHand("GET", "/v1/live", live.Connect);
        group.ByHand("GET", "/v1/live/{session}", live.Poll);
        group.ByHand("POST", "/v1/live/{session}", live.Post);
    }
}
