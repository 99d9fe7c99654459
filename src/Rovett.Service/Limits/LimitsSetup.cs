using Rovett.Service.Options;

namespace Rovett.Service.Limits;

/// <summary>Registers what bounds the use of the service.</summary>
static class LimitsSetup
{
    public static IServiceCollection AddLimits(this IServiceCollection services) => services
        .AddSingleton<ConnectionTurns>()
        .AddSingleton(
        p => new Connections(p.GetRequiredService<RovettOptions>().MaxConnections, p.GetRequiredService<ConnectionTurns>(),
            p.GetRequiredService<ILogger<Connections>>()))
        .AddSingleton(p =>
        {
            var limits = ActivatorUtilities.CreateInstance<UsageLimits>(p);
            p.GetRequiredService<RovettOptions>().Changed += limits.TakeUp;
            return limits;
        });
}
