using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>How far back.</summary>
public sealed record MetersQuery
{
    /// <summary>How far back; 15 minutes when left out.</summary>
    [OneOf("15m", "1h", "1d", "7d"), Example("1h")]
    public string? Over { get; set; }
}

/// <summary>What the meters of a space counted.</summary>
public sealed record MetersAnswer
{
    /// <summary>How far back.</summary>
    [OneOf("15m", "1h", "1d", "7d"), Example("1h")]
    public required string Over { get; init; }

    /// <summary>The length of a step in seconds.</summary>
    [Example(60)]
    public required int StepSeconds { get; init; }

    /// <summary>The start of the first step.</summary>
    public required StoredTime From { get; init; }

    /// <summary>Until when was counted.</summary>
    public required StoredTime To { get; init; }

    /// <summary>Seconds from the send to the first receipt of each person, not exceeded by half of all that came within a minute; at
    /// most a fifth too long.</summary>
    [Example(0.0045)]
    public double? DelayP50 { get; init; }

    /// <summary>The same, not exceeded by 99 %.</summary>
    [Example(0.038)]
    public double? DelayP99 { get; init; }

    /// <summary>The steps, oldest first.</summary>
    public required IReadOnlyList<MeterStepAnswer> Steps { get; init; }

    /// <summary>What was changed meanwhile, newest first, at most 40.</summary>
    public required IReadOnlyList<ChangeAnswer> Changes { get; init; }
}

/// <summary>What was counted in a step.</summary>
public sealed record MeterStepAnswer
{
    /// <summary>Its start.</summary>
    public required StoredTime Start { get; init; }

    /// <summary>Notifications stored.</summary>
    [Example(14)]
    public required long Sends { get; init; }

    /// <summary>Events taken.</summary>
    [Example(9)]
    public required long Events { get; init; }

    /// <summary>Notifications sent to devices.</summary>
    [Example(61)]
    public required long Dispatched { get; init; }

    /// <summary>Notifications received, once for each person.</summary>
    [Example(58)]
    public required long Received { get; init; }

    /// <summary>Requests refused.</summary>
    [Example(0)]
    public required long Refused { get; init; }

    /// <summary>Bugs and failures of the store, of the whole service.</summary>
    [Example(0)]
    public required long Faults { get; init; }

    /// <summary>The most sessions at a time, by transport.</summary>
    [Example("{\"websocket\":4,\"sse\":1}")]
    public required IReadOnlyDictionary<string, long> Sessions { get; init; }

    /// <summary>The most notifications at a time that were sent to devices and not acknowledged.</summary>
    [Example(2)]
    public required long Waiting { get; init; }

    /// <summary>Bytes of the history on disk, of the whole service.</summary>
    [Example(1_482_752)]
    public required long StoreBytes { get; init; }

    /// <summary>Seconds from the send to the first receipt of each person, not exceeded by half of them.</summary>
    [Example(0.0045)]
    public double? DelayP50 { get; init; }

    /// <summary>The same, not exceeded by 99 %.</summary>
    [Example(0.038)]
    public double? DelayP99 { get; init; }
}

/// <summary>Something that was changed.</summary>
public sealed record ChangeAnswer
{
    /// <summary>When.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>What, as in the audit log; or the start of the service.</summary>
    [Example("rules.loaded")]
    public required string What { get; init; }

    /// <summary>To what; the version that was started.</summary>
    [Example("version 12")]
    public required string About { get; init; }
}
