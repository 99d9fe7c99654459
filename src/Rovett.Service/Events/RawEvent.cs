using System.Text.Json;

namespace Rovett.Service.Events;

/// <summary>An event as a source handed it over: in the JSON format, or its attributes beside its data.</summary>
/// <param name="Body">The event in the JSON format, or its data.</param>
public sealed record RawEvent(ReadOnlyMemory<byte> Body)
{
    /// <summary>The type of the content, or null.</summary>
    public string? ContentType { get; init; }

    /// <summary>The attributes by their names, as the source carries them beside the body.</summary>
    public IReadOnlyList<KeyValuePair<string, string>> Attributes { get; init; } = [];

    /// <summary>An event in the JSON format.</summary>
    public static RawEvent Of(JsonElement found) => new(System.Text.Encoding.UTF8.GetBytes(found.GetRawText()));
}
