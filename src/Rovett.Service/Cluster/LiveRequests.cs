namespace Rovett.Service.Cluster;

/// <summary>Tells requests of devices from all others, before they are routed.</summary>
static class LiveRequests
{
    const string Live = "/v1/live";

    static ReadOnlySpan<char> OfSpace(HttpRequest request)
    {
        ReadOnlySpan<char> path = request.Path.Value;
        if (!path.StartsWith("/s/")) return path;
        int end = path[3..].IndexOf('/');
        return end > 0 ? path[(3 + end)..] : path;
    }

    /// <summary>Whether a request opens a session.</summary>
    public static bool IsOpening(HttpRequest request) => OfSpace(request).SequenceEqual(Live)
        && (HttpMethods.IsGet(request.Method) || HttpMethods.IsConnect(request.Method));

    /// <summary>Whether the device accepts a second <c>opened</c> on the same connection.</summary>
    public static bool Reopens(HttpRequest request) => request.Query["reopens"] == "true";

    /// <summary>The session that a request is of; null: it is of none.</summary>
    public static string? SessionOf(HttpRequest request) =>
        OfSpace(request) is var path && path.StartsWith(Live + "/") ? path[(Live.Length + 1)..].ToString() : null;
}
