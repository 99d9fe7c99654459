using System.Buffers;
using System.Text.Encodings.Web;
using System.Text.Json;

namespace Rovett.Core.Delivery;

/// <summary>Builds one message: an object that begins with its <c>kind</c>.</summary>
internal sealed class MessageBuilder
{
    /// <summary>Escapes what JSON must have escaped and nothing more; a message is never read as HTML.</summary>
    public static readonly JsonWriterOptions Options = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping, SkipValidation = false };

    readonly ArrayBufferWriter<byte> buffer = new(256);

    public MessageBuilder(string kind)
    {
        Writer = new Utf8JsonWriter(buffer, Options);
        Writer.WriteStartObject();
        Writer.WriteString("kind", kind);
    }

    public Utf8JsonWriter Writer { get; }

    /// <summary>The finished message.</summary>
    public byte[] Close()
    {
        Writer.WriteEndObject();
        Writer.Flush();
        return buffer.WrittenSpan.ToArray();
    }

    /// <summary>What stands so far, without the closing brace.</summary>
    public byte[] Open()
    {
        Writer.Flush();
        return buffer.WrittenSpan.ToArray();
    }
}
