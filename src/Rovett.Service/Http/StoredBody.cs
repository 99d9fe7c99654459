using System.Text.Json;

namespace Rovett.Service.Http;

/// <summary>The members that are stored of a notification or a change, which are kept without braces.</summary>
/// <param name="body">The members.</param>
readonly struct StoredBody(byte[] body) : IDisposable
{
    readonly JsonDocument members = JsonDocument.Parse((byte[])[(byte)'{', .. body, (byte)'}']);

    /// <summary>A text; null when there is none of the name.</summary>
    public string? Text(string name) => members.RootElement.TryGetProperty(name, out var value) ? value.GetString() : null;

    /// <summary>A time; null when there is none of the name.</summary>
    public StoredTime? Time(string name) =>
        members.RootElement.TryGetProperty(name, out var value) ? StoredTime.From(value.GetDateTimeOffset()) : null;

    /// <summary>A number; null when there is none of the name.</summary>
    public int? Number(string name) => members.RootElement.TryGetProperty(name, out var value) ? value.GetInt32() : null;

    /// <summary>Texts; null when there are none of the name.</summary>
    public IReadOnlyList<string>? Texts(string name) =>
        members.RootElement.TryGetProperty(name, out var value) ? [.. value.EnumerateArray().Select(v => v.GetString()!)] : null;

    /// <summary>Any JSON; null when there is none of the name.</summary>
    public JsonElement? Any(string name) => members.RootElement.TryGetProperty(name, out var value) ? value.Clone() : null;

    /// <summary>True when the member is there and is true.</summary>
    public bool Flag(string name) => members.RootElement.TryGetProperty(name, out var value) && value.ValueKind == JsonValueKind.True;

    /// <summary>Copies all members into the current object.</summary>
    public static void Write(Utf8JsonWriter json, byte[] body)
    {
        using var stored = new StoredBody(body);
        foreach (var member in stored.members.RootElement.EnumerateObject()) member.WriteTo(json);
    }

    /// <inheritdoc/>
    public void Dispose() => members.Dispose();
}
