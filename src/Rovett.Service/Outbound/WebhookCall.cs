using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using Rovett.Service.Diagnostics;

namespace Rovett.Service.Outbound;

/// <summary>What a call came to.</summary>
/// <param name="Failure">Why it was not taken; null: it was.</param>
/// <param name="IsGone">The address answered that it wants no more calls (410).</param>
/// <param name="Asked">How long it asked to be left alone; null: it did not say.</param>
public sealed record WebhookCallResult(string? Failure, bool IsGone, TimeSpan? Asked);

/// <summary>Calls webhooks, signed by Standard Webhooks 1.0, only where this service may connect to.</summary>
public sealed class WebhookCall(OutboundGuard guard, TimeProvider clock) : IDisposable
{
    static readonly TimeSpan Timeout = TimeSpan.FromSeconds(15);

    readonly HttpClient http = new(guard.Handler()) { Timeout = Timeout, MaxResponseContentBufferSize = 64 * 1024 };

    /// <summary>Calls once.</summary>
    /// <param name="url">The address.</param>
    /// <param name="secret">The secret that signs the call.</param>
    /// <param name="id">The same for every attempt, so that a receiver knows a repeat.</param>
    /// <param name="body">JSON, UTF-8.</param>
    /// <param name="cancel">Stops it.</param>
    public async Task<WebhookCallResult> Post(string url, byte[] secret, string id, byte[] body, CancellationToken cancel)
    {
        var now = clock.GetUtcNow();
        try
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, url) { Content = new ByteArrayContent(body) };
            request.Content.Headers.ContentType = new MediaTypeHeaderValue("application/json");
            var timestamp = now.ToUnixTimeSeconds().ToString(CultureInfo.InvariantCulture);
            request.Headers.Add("webhook-id", id);
            request.Headers.Add("webhook-timestamp", timestamp);
            request.Headers.Add("webhook-signature", "v1," + OutboundSignature.Of(secret, id, timestamp, body));
            request.Headers.UserAgent.ParseAdd("rovett/" + ServiceInfo.Version);
            using var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, cancel);
            return new WebhookCallResult(response.IsSuccessStatusCode ? null : $"answered {(int)response.StatusCode}",
                response.StatusCode == HttpStatusCode.Gone,
                response.Headers.RetryAfter is { } after ? after.Delta ?? after.Date - now : null);
        }
        catch (HttpRequestException error)
        {
            return new WebhookCallResult(error.InnerException is OutboundRefusedException refused ? refused.Message : error.Message, false,
                null);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            return new WebhookCallResult($"did not answer within {Timeout.TotalSeconds} s", false, null);
        }
    }

    /// <inheritdoc/>
    public void Dispose() => http.Dispose();
}
