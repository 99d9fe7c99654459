using System.Globalization;
using System.Text;

namespace Rovett.Core.Wire;

/// <summary>Text put together in a buffer that is long enough.</summary>
ref struct Utf8Text(Span<byte> buffer)
{
    readonly Span<byte> buffer = buffer;
    int length;

    public readonly ReadOnlySpan<byte> Written => buffer[..length];

    public void Add(byte one) => buffer[length++] = one;

    public void Add(ReadOnlySpan<byte> text)
    {
        text.CopyTo(buffer[length..]);
        length += text.Length;
    }

    public void Add(string text) => length += Encoding.UTF8.GetBytes(text, buffer[length..]);

    public void Add<T>(T value) where T : struct, IUtf8SpanFormattable
    {
        if (!value.TryFormat(buffer[length..], out int written, default, CultureInfo.InvariantCulture))
        {
            throw new InvalidOperationException("The buffer is too short.");
        }
        length += written;
    }
}
