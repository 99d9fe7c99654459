using Rovett.Service.Outbound;

namespace Rovett.Service.Receipts;

/// <summary>Where a backend wants to be called, and the secret that signs the calls (Standard Webhooks), as both are given.</summary>
static class WebhookTarget
{
    public const string SecretRule = "must be whsec_ and 24 to 64 bytes in base64 (Standard Webhooks), or left out";

    /// <summary>An address; null, with an error, when it is none.</summary>
    public static Uri? Url(string? text, List<FieldError> errors)
    {
        if (text is { Length: <= 2048 } && Uri.TryCreate(text, UriKind.Absolute, out var url)
            && url.Scheme is "http" or "https" && url.UserInfo.Length == 0)
        {
            return url;
        }
        if (errors.Exists(e => e.Field == "url")) return null;
        errors.Add(new FieldError("url", "must be an https address without a user name, such as https://backend.example/rovett"));
        return null;
    }

    public static bool TrySecret(string text, out byte[] secret)
    {
        secret = [];
        if (!text.StartsWith("whsec_", StringComparison.Ordinal)) return false;
        var bytes = new byte[text.Length];
        if (!Convert.TryFromBase64String(text[6..], bytes, out int count) || count is < 24 or > 64) return false;
        secret = bytes[..count];
        return true;
    }

    public static string Text(byte[] secret) => "whsec_" + Convert.ToBase64String(secret);

    /// <summary>Checks that this service may connect to an address.</summary>
    /// <exception cref="ProblemException">422: it may not.</exception>
    public static async Task RequireReachable(OutboundGuard guard, Uri url, CancellationToken cancel)
    {
        try
        {
            var addresses = await guard.Resolve(url.Host, cancel);
            if (url.Scheme == "http" && !addresses.All(guard.IsNamed))
            {
                throw new OutboundRefusedException("A plain http address is only taken in webhookNetworks.");
            }
        }
        catch (OutboundRefusedException refused)
        {
            throw Problem.Invalid([new FieldError("url", refused.Message)],
                "Give an address that this service may reach; nothing was changed.").ToException();
        }
    }
}
