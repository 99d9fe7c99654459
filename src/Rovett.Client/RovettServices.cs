using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Options;

namespace Rovett.Client;

/// <summary>Adds Rovett to an application's services.</summary>
public static class RovettServices
{
    /// <summary>Adds <see cref="IRovettSender"/> and <see cref="RovettEvents"/>, one each for the process.</summary>
    /// <param name="services">The application's services.</param>
    /// <param name="configure">Sets the address, the key, and how to send.</param>
    public static IServiceCollection AddRovett(this IServiceCollection services, Action<RovettSendOptions> configure)
    {
        services.AddOptions<RovettSendOptions>().Configure(configure);
        services.AddSingleton<IRovettSender>(s => new RovettSender(s.GetRequiredService<IOptions<RovettSendOptions>>().Value));
        services.AddSingleton(s => new RovettEvents(s.GetRequiredService<IOptions<RovettSendOptions>>().Value));
        return services;
    }
}
