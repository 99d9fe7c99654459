namespace Rovett.Core.Events;

/// <summary>A place in an event's data, as rules write it: <c>data:/vessel/id</c>, a JSON Pointer (RFC 6901) after
/// <c>data:</c>.</summary>
/// <param name="Text">As written.</param>
/// <param name="Steps">The names and indexes on the way; empty for all of the data.</param>
public sealed record DataPointer(string Text, IReadOnlyList<string> Steps)
{
    const string Prefix = "data:";

    /// <summary>Whether a text is meant as one.</summary>
    public static bool Is(string text) => text.StartsWith(Prefix, StringComparison.Ordinal);

    /// <summary>Reads one.</summary>
    /// <returns>Null when it is valid, otherwise the mistake.</returns>
    public static string? TryParse(string text, out DataPointer pointer)
    {
        pointer = new DataPointer(text, []);
        if (!Is(text)) return $"must begin with 'data:', such as data:/vessel/id; '{text}' does not";
        var path = text[Prefix.Length..];
        if (path.Length == 0) return null;
        if (path[0] != '/') return $"needs a '/' after 'data:' (a JSON Pointer, RFC 6901): data:/{path.Replace('.', '/')}";
        var steps = path[1..].Split('/');
        for (int i = 0; i < steps.Length; i++)
        {
            for (int at = steps[i].IndexOf('~', StringComparison.Ordinal); at >= 0;
                at = steps[i].IndexOf('~', at + 1))
            {
                if (at + 1 >= steps[i].Length || steps[i][at + 1] is not ('0' or '1'))
                {
                    return "contains a '~' that is not part of ~0 or ~1 (RFC 6901)";
                }
            }
            steps[i] = steps[i].Replace("~1", "/", StringComparison.Ordinal).Replace("~0", "~", StringComparison.Ordinal);
        }
        pointer = new DataPointer(text, steps);
        return null;
    }
}
