using System.Net;
using Rovett.Service.Options;

namespace Rovett.Service.Outbound;

/// <summary>Registers the guard for calls that go out.</summary>
static class OutboundSetup
{
    public static IServiceCollection AddOutbound(this IServiceCollection services) => services
        .AddSingleton(p => Guard(p.GetRequiredService<RovettOptions>()))
        .AddSingleton<OutboundNews>()
        .AddSingleton<OutboundTargets>()
        .AddSingleton<WebhookCall>()
        .AddSingleton<MailSender>()
        .AddSingleton<OutboundSender>();

    static OutboundGuard Guard(RovettOptions options)
    {
        IReadOnlyList<IPNetwork> Networks() => [.. options.WebhookNetworks.Select(n => IPNetwork.Parse(n))];
        var guard = new OutboundGuard(Networks());
        options.Changed += () => guard.Allow(Networks());
        return guard;
    }
}
