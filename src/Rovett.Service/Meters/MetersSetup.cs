namespace Rovett.Service.Meters;

/// <summary>Registers the meters.</summary>
static class MetersSetup
{
    public static IServiceCollection AddMeters(this IServiceCollection services) =>
        services.AddSingleton<LaneMeters>().AddSingleton<MeterKeeper>();
}
