namespace Rovett.Storage.Access;

/// <summary>What the meters counted in a span of time. <see cref="Length"/> and <see cref="Start"/> in seconds;
/// <see cref="Counted"/> is a JSON object.</summary>
public sealed record StoredSpan(string Space, long Length, long Start, string Counted);

/// <summary>A start of the service; the time in microseconds.</summary>
public sealed record StoredStart(long Time, string Version);

public sealed partial class AccessStore
{
    /// <summary>Stores spans in place of what was stored of them before, and forgets those of each length that began before a
    /// time.</summary>
    /// <param name="spans">The spans.</param>
    /// <param name="before">For each length, the oldest start that is kept.</param>
    public void SaveSpans(IReadOnlyList<StoredSpan> spans, IReadOnlyList<(long Length, long Oldest)> before) => Together(() =>
    {
        Run("INSERT INTO meter_span (space, length, start, counted) VALUES (@Space, @Length, @Start, @Counted) " +
            "ON CONFLICT (space, length, start) DO UPDATE SET counted=@Counted", spans);
        Run("DELETE FROM meter_span WHERE length=@Length AND start<@Oldest",
            before.Select(b => new { b.Length, b.Oldest }).ToList());
    });

    /// <summary>All stored spans.</summary>
    public IReadOnlyList<StoredSpan> Spans() =>
        All<StoredSpan>("SELECT space, length, start, counted FROM meter_span ORDER BY space, length, start", new { });

    /// <summary>Notes a start of the service.</summary>
    public void AddStart(StoredStart start) =>
        Run("INSERT INTO service_start (time, version) VALUES (@Time, @Version) ON CONFLICT (time) DO UPDATE SET version=@Version", start);

    /// <summary>The newest starts since a time, newest first.</summary>
    public IReadOnlyList<StoredStart> Starts(long since, int most) =>
        All<StoredStart>("SELECT time, version FROM service_start WHERE time>=@since ORDER BY time DESC LIMIT @most", new { since, most });
}
