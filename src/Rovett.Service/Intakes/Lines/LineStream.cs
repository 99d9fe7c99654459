using System.Buffers;
using System.IO.Pipelines;

namespace Rovett.Service.Intakes.Lines;

/// <summary>A line as it came.</summary>
/// <param name="Bytes">The line without its end; of one that is too long, its beginning.</param>
/// <param name="IsTooLong">Whether it is longer than allowed.</param>
readonly record struct Line(byte[] Bytes, bool IsTooLong);

/// <summary>Cuts a stream into lines. A line that is too long is told, and passed over to its end.</summary>
/// <param name="reader">The stream.</param>
/// <param name="longest">The longest line, in bytes.</param>
sealed class LineStream(PipeReader reader, int longest)
{
    bool isPassing;

    /// <summary>The next lines: at least one, and then as many as have come already. Empty lines are passed over.</summary>
    /// <param name="most">No more than these.</param>
    /// <param name="stop">Ends the waiting.</param>
    /// <returns>Empty: the stream has ended. What follows the last line break is no line.</returns>
    public async ValueTask<List<Line>> Next(int most, CancellationToken stop)
    {
        var lines = new List<Line>();
        for (; ; )
        {
            var result = await reader.ReadAsync(stop);
            var rest = result.Buffer;
            while (lines.Count < most && rest.PositionOf((byte)'\n') is { } end)
            {
                Add(lines, rest.Slice(0, end));
                rest = rest.Slice(rest.GetPosition(1, end));
            }
            if (lines.Count < most && rest.Length > longest)
            {
                if (!isPassing) lines.Add(new Line(rest.Slice(0, longest).ToArray(), true));
                isPassing = true;
                rest = rest.Slice(rest.End);
            }
            reader.AdvanceTo(rest.Start, lines.Count < most ? rest.End : rest.Start);
            if (lines.Count > 0 || result.IsCompleted) return lines;
        }
    }

    void Add(List<Line> lines, ReadOnlySequence<byte> found)
    {
        if (isPassing)
        {
            isPassing = false; // the end of one that was told
            return;
        }
        var bytes = found.Slice(0, Math.Min(found.Length, longest)).ToArray();
        var text = bytes.AsSpan().Trim(" \t\r"u8);
        if (text.Length > 0 || found.Length > longest) lines.Add(new Line(text.ToArray(), found.Length > longest));
    }
}
