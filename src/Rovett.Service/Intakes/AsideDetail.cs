using System.Buffers;
using System.Text;
using System.Text.Json;
using System.Text.Unicode;
using Rovett.Core.Events;
using Rovett.Service.Events;
using Rovett.Service.Http;

namespace Rovett.Service.Intakes;

/// <summary>What a source handed over, as it is set aside: a JSON object with the intake, and the content as JSON (<c>content</c>), as a
/// text, or as bytes in base64.</summary>
static class AsideDetail
{
    /// <summary>More than an event may have is not kept: it could not be taken as it is.</summary>
    const int MostKept = IncomingEvent.MaxBytes;

    /// <summary>Writes it.</summary>
    public static string Write(string intake, string? origin, RawEvent raw)
    {
        var buffer = new ArrayBufferWriter<byte>(raw.Body.Length + 256);
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            json.WriteString("intake", intake);
            if (origin is not null) json.WriteString("origin", origin);
            if (raw.ContentType is { } type) json.WriteString("contentType", type);
            if (raw.Attributes.Count > 0)
            {
                json.WriteStartObject("attributes");
                foreach (var (name, value) in raw.Attributes.DistinctBy(a => a.Key)) json.WriteString(name, value);
                json.WriteEndObject();
            }
            WriteBody(json, raw.Body.Span);
            json.WriteEndObject();
        }
        return Encoding.UTF8.GetString(buffer.WrittenSpan);
    }

    static void WriteBody(Utf8JsonWriter json, ReadOnlySpan<byte> body)
    {
        if (body.Length > MostKept)
        {
            json.WriteNumber("size", body.Length);
            body = body[..Whole(body)];
        }
        else if (IsJson(body))
        {
            json.WritePropertyName("content");
            json.WriteRawValue(body);
            return;
        }
        if (Utf8.IsValid(body) && !body.Contains((byte)0)) json.WriteString("text", body);
        else json.WriteBase64String("base64", body);
    }

    /// <summary>Where a text can be cut, so that it stays one.</summary>
    static int Whole(ReadOnlySpan<byte> body)
    {
        int end = MostKept;
        while (end > MostKept - 4 && (body[end] & 0xC0) == 0x80) end--;
        return end;
    }

    static bool IsJson(ReadOnlySpan<byte> body)
    {
        if (!Utf8.IsValid(body)) return false;
        try
        {
            var reader = new Utf8JsonReader(body, new JsonReaderOptions { MaxDepth = 32 });
            return JsonDocument.TryParseValue(ref reader, out var document) && Done(document, body[(int)reader.BytesConsumed..]);
        }
        catch (JsonException)
        {
            return false;
        }
    }

    static bool Done(JsonDocument document, ReadOnlySpan<byte> rest)
    {
        using (document) return rest.Trim(" \t\r\n"u8).IsEmpty && !JsonText.HasBadText(document.RootElement);
    }

    /// <summary>Reads it back.</summary>
    /// <returns>The intake's name and what it was handed; null: not all of it was kept, or it was erased with a person.</returns>
    public static (string Intake, RawEvent Raw)? Read(JsonElement detail)
    {
        if (!detail.TryGetProperty("intake", out var intake) || detail.TryGetProperty("size", out _)) return null;
        ReadOnlyMemory<byte> body = detail.TryGetProperty("content", out var content) ? Encoding.UTF8.GetBytes(content.GetRawText())
            : detail.TryGetProperty("text", out var text) ? Encoding.UTF8.GetBytes(text.GetString()!)
            : detail.TryGetProperty("base64", out var bytes) ? bytes.GetBytesFromBase64() : ReadOnlyMemory<byte>.Empty;
        return (intake.GetString()!, new RawEvent(body)
        {
            ContentType = detail.TryGetProperty("contentType", out var type) ? type.GetString() : null,
            Attributes = detail.TryGetProperty("attributes", out var attributes)
                ? [.. attributes.EnumerateObject().Select(a => KeyValuePair.Create(a.Name, a.Value.GetString()!))] : [],
        });
    }
}
