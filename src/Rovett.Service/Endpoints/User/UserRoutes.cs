using Rovett.Service.Credentials;

namespace Rovett.Service.Endpoints.User;

/// <summary>What users' devices call, with a token.</summary>
static class UserRoutes
{
    public static IServiceCollection AddUserEndpoints(this IServiceCollection services) => services.AddSingleton<UserApi>();

    public static void MapUser(this IEndpointRouteBuilder routes)
    {
        var api = routes.ServiceProvider.GetRequiredService<UserApi>();
        var user = routes.ForUsers();
        user.MapGet("/v1/inbox", api.Inbox);
        user.MapGet("/v1/inbox/totals", api.InboxTotals);
        user.MapGet("/v1/inbox/{id}", api.InboxItem);
        user.MapPost("/v1/inbox/marks", api.Marks);
        user.MapPost("/v1/inbox/{id}/take", api.Take);
        user.MapPost("/v1/inbox/{id}/release", api.Release);
        user.MapGet("/v1/mutes", api.Mutes);
        user.MapPost("/v1/mutes", api.Mute);
        user.MapDelete("/v1/mutes", api.Unmute);
        user.MapGet("/v1/follows", api.Follows);
        user.MapPost("/v1/follows", api.Follow);
        user.MapDelete("/v1/follows", api.Unfollow);
        user.MapPost("/v1/tickets", api.Ticket);
    }
}
