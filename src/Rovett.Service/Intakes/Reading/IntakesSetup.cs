using Rovett.Core.Ledgers;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Events;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Meters;
using Rovett.Service.Options;
using Rovett.Service.Spaces;

namespace Rovett.Service.Intakes.Reading;

/// <summary>Registers the intakes.</summary>
static class IntakesSetup
{
    public static IServiceCollection AddIntakes(this IServiceCollection services, RovettOptions options) => services
        .AddSingleton(p => new InletServices(p.GetRequiredService<LedgerPump>(), p.GetRequiredService<RulesInForce>(),
            p.GetRequiredService<EventChecks>(), p.GetRequiredService<UsageLimits>(), p.GetRequiredService<ServiceMeters>(),
            p.GetRequiredService<ApiKeys>(), p.GetRequiredService<ServiceClock>(), p.GetRequiredService<Faults>(),
            p.GetRequiredService<ILogger<Inlet>>()))
        .AddSingleton(p => new IntakeList(Read(options), p.GetRequiredService<SpaceDirectory>(), p.GetRequiredService<InletServices>()));

    static IReadOnlyList<IntakeSettings> Read(RovettOptions options)
    {
        if (options.Intakes is not { } file) return [];
        var (intakes, mistakes) = IntakeFile.Load(file);
        return mistakes.Count == 0 ? intakes : throw new ArgumentException(string.Join('\n', mistakes), nameof(options));
    }
}
