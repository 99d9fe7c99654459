using Rovett.Service.Credentials;
using Rovett.Service.Events;

namespace Rovett.Service.Intakes;

/// <summary>Something a source delivered.</summary>
/// <param name="Raw">As it came.</param>
public sealed record SourceItem(RawEvent Raw)
{
    /// <summary>Its identity within the source, such as a row's key: it is set aside only once, however often it is delivered.</summary>
    public string? Origin { get; init; }

    /// <summary>The part of the source that it is from.</summary>
    public string Part { get; init; } = "";

    /// <summary>The position within that part once it is taken; null: the source has no positions.</summary>
    public Func<string>? Place { get; init; }

    /// <summary>When the source received it; null: unknown.</summary>
    public DateTimeOffset? Since { get; init; }

    /// <summary>Why it can't be an event, if that is already known.</summary>
    public string? Why { get; init; }

    /// <summary>The API key of its connection, which may narrow what it brings; null: none.</summary>
    public ApiKey? Key { get; init; }
}
