using System.Text;

namespace Rovett.Core.Wire.Sse;

/// <summary>Writes events of a stream (WHATWG HTML §9.2).</summary>
public static class SseWriter
{
    /// <summary>One event whose data is JSON, put on one line.</summary>
    public static byte[] Event(string name, string? id, ReadOnlySpan<byte> json)
    {
        var head = Encoding.UTF8.GetBytes(id is null ? $"event: {name}\ndata: " : $"id: {id}\nevent: {name}\ndata: ");
        var bytes = new byte[head.Length + json.Length + 2];
        head.CopyTo(bytes, 0);
        var data = bytes.AsSpan(head.Length, json.Length);
        json.CopyTo(data);
        // A line break would end the field, and only ever stands between two tokens of JSON: a space means the same there.
        data.Replace((byte)'\n', (byte)' ');
        data.Replace((byte)'\r', (byte)' ');
        bytes[^2] = bytes[^1] = (byte)'\n';
        return bytes;
    }
}
