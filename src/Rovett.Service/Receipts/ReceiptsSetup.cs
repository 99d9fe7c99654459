namespace Rovett.Service.Receipts;

/// <summary>Registers receipts and webhooks.</summary>
static class ReceiptsSetup
{
    public static IServiceCollection AddReceipts(this IServiceCollection services) => services
        .AddSingleton<ReceiptNews>()
        .AddSingleton<ReceiptReader>()
        .AddSingleton<WebhookSender>();
}
