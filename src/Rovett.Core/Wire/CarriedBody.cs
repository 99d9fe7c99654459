using System.Buffers;
using System.Text.Json;

namespace Rovett.Core.Wire;

/// <summary>The members of a notification that are sent to devices, when not all are.</summary>
static class CarriedBody
{
    static ReadOnlySpan<byte> Mark => "\"carry\":\""u8;

    /// <summary>Leaves out the members that are not sent. A notification that is sent in full is returned without parsing it.</summary>
    /// <param name="body">The members as they are stored, without braces.</param>
    public static byte[] Of(byte[] body)
    {
        if (!body.AsSpan().StartsWith(Mark)) return body;
        bool isReference = body[Mark.Length] == (byte)'r';
        var buffer = new ArrayBufferWriter<byte>(256);
        using (var document = JsonDocument.Parse((byte[])[(byte)'{', .. body, (byte)'}']))
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions))
        {
            json.WriteStartObject();
            foreach (var member in document.RootElement.EnumerateObject())
            {
                if (member.Name is "body" or "data" || (isReference && member.Name is "title" or "link")) continue;
                member.WriteTo(json);
            }
            json.WriteEndObject();
        }
        return buffer.WrittenSpan[1..^1].ToArray();
    }
}
