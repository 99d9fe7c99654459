using Rovett.Service.Events;

namespace Rovett.Service.Intakes.Lines;

/// <summary>Lines as what a source hands over.</summary>
static class LineItems
{
    /// <summary>A line that came now.</summary>
    public static SourceItem Of(Line line, int longest, DateTimeOffset now) => new(new RawEvent(line.Bytes))
    {
        Since = now,
        Why = line.IsTooLong ? $"line: is longer than {longest} bytes (maxLine); only its beginning is kept" : null,
    };
}
