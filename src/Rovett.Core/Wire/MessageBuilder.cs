using System.Buffers;
using System.Text.Json;

namespace Rovett.Core.Wire;

/// <summary>Builds one message: an object that begins with its <c>kind</c>. What it writes into is used again by the
/// next one of its thread.</summary>
internal readonly struct MessageBuilder
{
    const int MostKept = 16 * 1024;

    sealed class Page
    {
        public readonly ArrayBufferWriter<byte> Buffer = new(1024);
        public readonly Utf8JsonWriter Writer;

        public Page() => Writer = new Utf8JsonWriter(Buffer, JsonText.WriterOptions);
    }

    [ThreadStatic] static Page? blank;

    readonly Page page;

    public MessageBuilder(string kind)
    {
        page = blank ?? new Page();
        blank = null;
        Writer.WriteStartObject();
        Writer.WriteString("kind", kind);
    }

    public Utf8JsonWriter Writer => page.Writer;

    /// <summary>The finished message; the builder is done with.</summary>
    public byte[] Close()
    {
        Writer.WriteEndObject();
        return Take();
    }

    /// <summary>What stands so far, without the closing brace; the builder is done with.</summary>
    public byte[] Open() => Take();

    byte[] Take()
    {
        Writer.Flush();
        var bytes = page.Buffer.WrittenSpan.ToArray();
        if (page.Buffer.Capacity <= MostKept)
        {
            page.Buffer.ResetWrittenCount();
            page.Writer.Reset();
            blank = page;
        }
        return bytes;
    }
}
