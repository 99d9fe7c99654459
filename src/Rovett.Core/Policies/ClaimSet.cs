using System.Buffers;
using System.Text;
using System.Text.Json;

namespace Rovett.Core.Policies;

/// <summary>The claims of a token that policies look at: for each path that a policy names its values, none where the token
/// has none. Stored as a JSON object of arrays of texts, its members in order.</summary>
public static class ClaimSet
{
    /// <summary>The most values kept of one claim.</summary>
    public const int MaxValues = 256;

    /// <summary>The stored form.</summary>
    public static string Write(IEnumerable<KeyValuePair<string, IReadOnlyList<string>>> claims)
    {
        var ordered = new SortedDictionary<string, IReadOnlyList<string>>(StringComparer.Ordinal);
        foreach (var (path, values) in claims) ordered[path] = [.. values.Distinct().Order(StringComparer.Ordinal)];
        if (ordered.Count == 0) return "";
        var buffer = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions))
        {
            json.WriteStartObject();
            foreach (var (path, values) in ordered)
            {
                json.WriteStartArray(path);
                foreach (var value in values) json.WriteStringValue(value);
                json.WriteEndArray();
            }
            json.WriteEndObject();
        }
        return Encoding.UTF8.GetString(buffer.WrittenSpan);
    }

    /// <summary>Reads the stored form.</summary>
    public static Dictionary<string, IReadOnlyList<string>> Read(string text)
    {
        var claims = new Dictionary<string, IReadOnlyList<string>>();
        if (text.Length == 0) return claims;
        using var document = JsonDocument.Parse(text);
        foreach (var member in document.RootElement.EnumerateObject())
        {
            claims[member.Name] = [.. member.Value.EnumerateArray().Select(v => v.GetString()!)];
        }
        return claims;
    }

    /// <summary>Whether the token was read for all of these paths. Paths without a value are stored too.</summary>
    public static bool IsReadFor(string text, IReadOnlyList<string> paths)
    {
        if (paths.Count == 0) return true;
        var claims = Read(text);
        return paths.All(claims.ContainsKey);
    }

    /// <summary>Combines two tokens issued at the same instant: the values that both have of a claim.</summary>
    public static string Both(string one, string other)
    {
        if (one == other || other.Length == 0) return one;
        var claims = Read(one);
        foreach (var (path, values) in Read(other)) claims[path] = claims.TryGetValue(path, out var known)
            ? [.. known.Where(values.Contains)]
            : values;
        return Write(claims);
    }
}
