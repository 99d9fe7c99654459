using System.Buffers;
using System.IO.Pipelines;

namespace Rovett.Service.Http;

/// <summary>Reads a body line by line (NDJSON). A line has a longest length, so that a body without line breaks takes
/// no more memory than one with.</summary>
/// <param name="reader">The body.</param>
/// <param name="maxBytes">The longest line.</param>
public sealed class LineReader(PipeReader reader, int maxBytes)
{
    long line;

    /// <summary>The next line without its line break and the white space around it; null at the end.</summary>
    /// <exception cref="ProblemException">413: the line is too long. Nothing of it is kept.</exception>
    public async ValueTask<byte[]?> Next(CancellationToken cancel)
    {
        line++;
        for (; ; )
        {
            var result = await reader.ReadAsync(cancel);
            var buffer = result.Buffer;
            if (buffer.PositionOf((byte)'\n') is { } end)
            {
                var found = buffer.Slice(0, end) is { } text && text.Length <= maxBytes ? Trimmed(text) : null;
                reader.AdvanceTo(buffer.GetPosition(1, end));
                return found ?? throw TooLong();
            }
            if (result.IsCompleted || buffer.Length > maxBytes)
            {
                bool isTooLong = buffer.Length > maxBytes;
                var last = buffer.IsEmpty || isTooLong ? null : Trimmed(buffer);
                reader.AdvanceTo(buffer.End);
                return isTooLong ? throw TooLong() : last;
            }
            reader.AdvanceTo(buffer.Start, buffer.End);
        }
    }

    static byte[] Trimmed(ReadOnlySequence<byte> found) => found.ToArray().AsSpan().Trim(" \t\r"u8).ToArray();

    ProblemException TooLong() =>
        new Problem(413, "line-too-long", "Line too long", $"Line {line} is longer than {maxBytes} bytes.",
        "Send one JSON object a line, with a line break after each.").ToException();
}
