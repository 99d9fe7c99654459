using Rovett.Service.Credentials;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Intakes;

/// <summary>Endpoints for intakes, with an API key.</summary>
static class IntakesRoutes
{
    public static IServiceCollection AddIntakeEndpoints(this IServiceCollection services) =>
        services.AddRecords(IntakesJson.Default).AddSingleton<IntakesApi>();

    public static void MapIntakes(this IEndpointRouteBuilder routes)
    {
        const string says = "The intake's name.", name = "planning";
        var intakes = routes.ServiceProvider.GetRequiredService<IntakesApi>();
        var read = routes.ForKeys("read").WithTags("Intakes");
        read.Get("/v1/intakes", intakes.ListIntakes);
        read.Get("/v1/intakes/{name}", intakes.ShowIntake).WithPath("name", says, name).Refuses(404, "unknown-intake");
        var admin = routes.ForKeys("admin").WithTags("Intakes");
        admin.Post("/v1/intakes/{name}/pause", intakes.PauseIntake).WithPath("name", says, name).Refuses(404, "unknown-intake");
        admin.Post("/v1/intakes/{name}/resume", intakes.ResumeIntake).WithPath("name", says, name).Refuses(404, "unknown-intake");
        admin.Post("/v1/intakes/{name}/test", intakes.TestIntake).WithPath("name", says, name).Refuses(404, "unknown-intake");
    }
}
