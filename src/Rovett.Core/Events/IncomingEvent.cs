using System.Buffers;
using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;

namespace Rovett.Core.Events;

/// <summary>A backend's event, as rules see it: the attributes of CloudEvents 1.0 as texts, and its data as JSON.</summary>
public sealed class IncomingEvent
{
    /// <summary>The largest event: attributes and data, in bytes.</summary>
    public const int MaxBytes = 64 * 1024;

    static readonly string[] TraceAttributes = ["traceparent", "tracestate"];

    /// <summary>Creates an event.</summary>
    /// <param name="attributes">Every attribute by its name; <c>source</c>, <c>id</c> and <c>type</c> are among them.</param>
    /// <param name="data">The data; null where there is none, or where it is not JSON.</param>
    /// <param name="otherData">Data that is not JSON: rules cannot look into it, but a repeat is recognised by it.</param>
    public IncomingEvent(IReadOnlyDictionary<string, string> attributes, JsonElement? data, ReadOnlySpan<byte> otherData = default)
    {
        Attributes = attributes;
        Data = data;
        Bytes = Canonical(attributes, data, otherData, withTrace: true);
        Hash = SHA256.HashData(Canonical(attributes, data, otherData, withTrace: false));
    }

    /// <summary>Every attribute by its name.</summary>
    public IReadOnlyDictionary<string, string> Attributes { get; }

    /// <summary>Where it happened: a URI-reference.</summary>
    public string Source => Attributes["source"];

    /// <summary>Its id, unique within the source.</summary>
    public string Id => Attributes["id"];

    /// <summary>Its type: <c>engine.check.due</c>.</summary>
    public string Type => Attributes["type"];

    /// <summary>The subject it is about, or null.</summary>
    public string? Subject => Attributes.GetValueOrDefault("subject");

    /// <summary>The trace it belongs to (W3C Trace Context), or null.</summary>
    public string? Trace => Attributes.GetValueOrDefault("traceparent");

    /// <summary>Its data as JSON, or null.</summary>
    public JsonElement? Data { get; }

    /// <summary>The event in the JSON format of CloudEvents, UTF-8.</summary>
    public byte[] Bytes { get; }

    /// <summary>SHA-256 of its content. The trace is left out: a repeat may belong to another.</summary>
    public byte[] Hash { get; }

    /// <summary>Reads <see cref="Bytes"/> back.</summary>
    public static IncomingEvent Parse(ReadOnlySpan<byte> bytes)
    {
        var reader = new Utf8JsonReader(bytes);
        var root = JsonElement.ParseValue(ref reader);
        var attributes = new Dictionary<string, string>();
        JsonElement? data = null;
        byte[] other = [];
        foreach (var member in root.EnumerateObject())
        {
            if (member.Name == "data") data = member.Value;
            else if (member.Name == "data_base64") other = member.Value.GetBytesFromBase64();
            else attributes[member.Name] = member.Value.GetString()!;
        }
        return new IncomingEvent(attributes, data, other);
    }

    /// <summary>The event with other data.</summary>
    public IncomingEvent With(JsonElement data) => new(Attributes, data);

    static byte[] Canonical(IReadOnlyDictionary<string, string> attributes, JsonElement? data, ReadOnlySpan<byte> other, bool withTrace)
    {
        var buffer = new ArrayBufferWriter<byte>(512);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions))
        {
            json.WriteStartObject();
            foreach (var (name, value) in attributes.OrderBy(a => a.Key, StringComparer.Ordinal))
            {
                if (withTrace || !TraceAttributes.Contains(name)) json.WriteString(name, value);
            }
            if (data is { } d)
            {
                json.WritePropertyName("data");
                d.WriteTo(json);
            }
            else if (other.Length > 0) json.WriteBase64String("data_base64", other);
            json.WriteEndObject();
        }
        return buffer.WrittenSpan.ToArray();
    }

    /// <summary>The value at a JSON Pointer (RFC 6901) in the data; null when there is none.</summary>
    public JsonElement? At(IReadOnlyList<string> pointer)
    {
        if (Data is not { } value) return null;
        foreach (var step in pointer)
        {
            if (value.ValueKind == JsonValueKind.Object)
            {
                if (!value.TryGetProperty(step, out value)) return null;
            }
            else if (value.ValueKind == JsonValueKind.Array)
            {
                bool isIndex = int.TryParse(step, NumberStyles.None, CultureInfo.InvariantCulture, out int index)
                    && (step == "0" || step[0] != '0');
                if (!isIndex || index >= value.GetArrayLength()) return null;
                value = value[index];
            }
            else return null;
        }
        return value;
    }
}
