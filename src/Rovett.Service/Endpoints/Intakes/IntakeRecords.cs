using System.Text.Json.Serialization;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Intakes;

/// <summary>An intake: a source that events are taken from. Numbers are since the service started.</summary>
public sealed record IntakeAnswer
{
    /// <summary>Its name.</summary>
    [Example("planning")]
    public required string Name { get; init; }

    /// <summary>The kind of source.</summary>
    [OneOf("outbox", "rabbitmq", "kafka", "redis", "tcp", "unix", "udp", "stdin", "schedule"), Example("outbox")]
    public required string Kind { get; init; }

    /// <summary>Where it takes events from.</summary>
    [Example("db.internal:5432/planning rovett_outbox")]
    public required string From { get; init; }

    /// <summary>What it does: <c>starting</c> (it connects), <c>running</c>, <c>waiting</c> (its source, or the store, can't be used; it
    /// tries again by itself), <c>paused</c>, <c>ended</c> (its source has come to its end), <c>stopped</c>.</summary>
    [OneOf("starting", "running", "waiting", "paused", "ended", "stopped"), Example("running")]
    public required string State { get; init; }

    /// <summary>Since when.</summary>
    public required StoredTime Since { get; init; }

    /// <summary>Why it waits.</summary>
    [Example("connection refused (127.0.0.1:5432)")]
    public string? Reason { get; init; }

    /// <summary>Events taken, repeats included.</summary>
    [Example(1203)]
    public required long Events { get; init; }

    /// <summary>Those of them that had been taken before.</summary>
    [Example(0)]
    public required long Repeated { get; init; }

    /// <summary>Those of them that no rule matched.</summary>
    [Example(12)]
    public required long Unmatched { get; init; }

    /// <summary>Notifications made of them.</summary>
    [Example(1180)]
    public required long Notifications { get; init; }

    /// <summary>What was set aside.</summary>
    [Example(1)]
    public required long SetAside { get; init; }

    /// <summary>Lines that were dropped because they came too fast, or from a network that may not send.</summary>
    [Example(0)]
    public required long Dropped { get; init; }

    /// <summary>Why an event was last set aside.</summary>
    [Example("specversion: is '0.3'; this service takes CloudEvents 1.0")]
    public string? LastReason { get; init; }

    /// <summary>When an event was last taken.</summary>
    public StoredTime? LastTaken { get; init; }

    /// <summary>Events a second, over the last ten.</summary>
    [Example(4.5)]
    public required double PerSecond { get; init; }

    /// <summary>How long the oldest event of the last batch had waited at the source, in milliseconds; absent if the source does not
    /// say.</summary>
    [Example(12)]
    public long? LagMs { get; init; }

    /// <summary>How many events wait at the source; absent if the source does not say.</summary>
    [Example(0)]
    public long? Behind { get; init; }

    /// <summary>Events that were removed from the source before they could be read.</summary>
    [Example("4 entries of crew-events after 1764400000000-0 were trimmed or deleted there before they were read")]
    public string? Lost { get; init; }

    /// <summary>The types of events that it may bring; empty: any.</summary>
    [Example("engine.*")]
    public required IReadOnlyList<string> Types { get; init; }

    /// <summary>The sources of events that it may bring; empty: any.</summary>
    [Example("/planning/*")]
    public required IReadOnlyList<string> Sources { get; init; }

    /// <summary>How far it has read each part of its source; only when one intake is requested.</summary>
    public IReadOnlyList<IntakePlaceAnswer>? Places { get; init; }
}

/// <summary>How far an intake has read a part of its source.</summary>
public sealed record IntakePlaceAnswer
{
    /// <summary>The part: a partition, a stream.</summary>
    [Example("crew-events")]
    public required string Part { get; init; }

    /// <summary>The place within it, as the source counts.</summary>
    [Example("1764400000000-0")]
    public required string Place { get; init; }
}

/// <summary>The intakes of a space.</summary>
public sealed record IntakeListAnswer
{
    /// <summary>In the order of the file.</summary>
    public required IReadOnlyList<IntakeAnswer> Intakes { get; init; }
}

/// <summary>Whether a source can be used.</summary>
public sealed record IntakeTestAnswer
{
    /// <summary>Whether it can.</summary>
    [Example(true)]
    public required bool Works { get; init; }

    /// <summary>What was found.</summary>
    [Example("connected to db.internal:5432/planning as rovett, PostgreSQL 15.14")]
    public required IReadOnlyList<string> Found { get; init; }

    /// <summary>Why it can't be used.</summary>
    [Example("42P01: relation \"rovett_outbox\" does not exist")]
    public string? Reason { get; init; }
}

/// <summary>The code that reads and writes the records of this folder.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata, PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, Converters = [typeof(StoredTimeConverter)])]
[JsonSerializable(typeof(IntakeListAnswer)), JsonSerializable(typeof(IntakeAnswer)), JsonSerializable(typeof(IntakeTestAnswer))]
sealed partial class IntakesJson : JsonSerializerContext;
