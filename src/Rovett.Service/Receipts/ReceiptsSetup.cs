using Rovett.Service.Credentials;
using Rovett.Storage.Access;

namespace Rovett.Service.Receipts;

/// <summary>Registers receipts and webhooks.</summary>
static class ReceiptsSetup
{
    public static IServiceCollection AddReceipts(this IServiceCollection services) => services
        .AddSingleton<ReceiptNews>()
        .AddSingleton<ReceiptReader>()
        .AddSingleton<WebhookSender>();

    /// <summary>Hears of webhooks that another process changed.</summary>
    public static void FollowWebhooks(this IServiceProvider provider, AccessNews news)
    {
        var sender = provider.GetRequiredService<WebhookSender>();
        news.On(AccessKinds.Webhooks, _ => sender.Refresh());
    }
}
