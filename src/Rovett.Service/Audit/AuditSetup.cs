using Rovett.Service.Options;
using Rovett.Service.Spaces;

namespace Rovett.Service.Audit;

/// <summary>Registers the audit log and what is noted of refusals.</summary>
static class AuditSetup
{
    public static IServiceCollection AddAudit(this IServiceCollection services) => services
        .AddSingleton<AuditTrail>()
        .AddSingleton<Refusals>()
        .AddSingleton(p => new Origins(() => p.GetRequiredService<RovettOptions>().Origins, p.GetRequiredService<SpaceDirectory>(),
            p.GetRequiredService<TimeProvider>(), p.GetRequiredService<ILogger<Origins>>()));
}
