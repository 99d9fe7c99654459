using Rovett.Core.Ledgers.Commands.Events;

namespace Rovett.Core.Ledgers.Commands.Intakes;

/// <summary>Something a source delivered: an event, or content that is set aside.</summary>
public sealed record HandedOver
{
    /// <summary>The event; null: it is not one, or may not be taken.</summary>
    public EvaluatedEvent? Event { get; init; }

    /// <summary>Why it is not taken, where <see cref="Event"/> is null.</summary>
    public string Why { get; init; } = "";

    /// <summary>As it came, as a JSON object: what is stored if it is set aside.</summary>
    public required Func<string> Detail { get; init; }

    /// <summary>Its identity within the source: it is set aside only once, however often it is delivered. Null: unknown.</summary>
    public string? Origin { get; init; }

    /// <summary>The part of the source that it is from.</summary>
    public string Part { get; init; } = "";

    /// <summary>The position within that part once it is taken, computed for the last of a batch only; null: the source has
    /// no positions.</summary>
    public Func<string>? Place { get; init; }
}

/// <summary>What came of something a source delivered.</summary>
/// <param name="Outcome">What came of the event; null: it was set aside as it is.</param>
/// <param name="SetAside">The number under which it was set aside as it is; null: it was taken, or had been set aside before.</param>
/// <param name="Why">Why it was set aside.</param>
public sealed record HandedOverResult(EventOutcome? Outcome, long? SetAside, string? Why);

/// <summary>What came of a batch.</summary>
/// <param name="Results">A result for each that was taken or set aside, from the first on.</param>
/// <param name="Blocked">Why the next one has to wait; null: all of them are done.</param>
public sealed record HandedOverResults(IReadOnlyList<HandedOverResult> Results, Problem? Blocked);
