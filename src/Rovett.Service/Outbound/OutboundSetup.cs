using System.Net;
using Rovett.Service.Options;

namespace Rovett.Service.Outbound;

/// <summary>Registers the guard for calls that go out.</summary>
static class OutboundSetup
{
    public static IServiceCollection AddOutbound(this IServiceCollection services) => services
        .AddSingleton(p => new OutboundGuard([.. p.GetRequiredService<RovettOptions>().WebhookNetworks.Select(n => IPNetwork.Parse(n))]))
        .AddSingleton<OutboundNews>()
        .AddSingleton<OutboundTargets>()
        .AddSingleton<WebhookCall>()
        .AddSingleton<MailSender>()
        .AddSingleton<OutboundSender>();
}
