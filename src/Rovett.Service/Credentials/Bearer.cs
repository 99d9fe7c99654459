namespace Rovett.Service.Credentials;

/// <summary>The credential of a request's <c>Authorization</c> header (RFC 6750).</summary>
public static class Bearer
{
    /// <summary>The credential after <c>Bearer</c>, or null.</summary>
    public static string? Of(HttpContext context)
    {
        var header = context.Request.Headers.Authorization.ToString();
        return header.StartsWith("Bearer ", StringComparison.OrdinalIgnoreCase) && header.Length > 7 ? header[7..].Trim() : null;
    }
}
