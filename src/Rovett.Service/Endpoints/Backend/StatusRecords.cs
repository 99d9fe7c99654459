using System.Text.Json;
using Rovett.Service.Audit;
using Rovett.Service.Http;
using Rovett.Service.Live;
using Rovett.Service.Spaces;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>How the service and the space are.</summary>
public sealed record StatusAnswer
{
    /// <summary>The service's version.</summary>
    [Example("0.2.0")]
    public required string Version { get; init; }

    /// <summary>When the service started.</summary>
    public required StoredTime Since { get; init; }

    /// <summary>The node that serves the space; absent: the service has its store to itself.</summary>
    [Example("https://10.0.0.5:7412")]
    public string? Node { get; init; }

    /// <summary>The nodes of the cluster; empty: the service has its store to itself.</summary>
    public required IReadOnlyList<NodeAnswer> Nodes { get; init; }

    /// <summary>The space.</summary>
    [Example("main")]
    public required string Space { get; init; }

    /// <summary>The life of the store: another one after a restore.</summary>
    [Example("8f1d3c5a7b9e24068f1d3c5a7b9e2406")]
    public required string Epoch { get; init; }

    /// <summary>The newest position of the space's history.</summary>
    [Example(4711)]
    public required long Position { get; init; }

    /// <summary>Open sessions.</summary>
    [Example(5)]
    public required int Sessions { get; init; }

    /// <summary>Users who have one.</summary>
    [Example(4)]
    public required int Users { get; init; }

    /// <summary>Open sessions by transport.</summary>
    [Example("{\"websocket\":4,\"sse\":1}")]
    public required IReadOnlyDictionary<string, int> Transports { get; init; }

    /// <summary>Origins that were refused, most often first.</summary>
    public required IReadOnlyList<RefusedOriginAnswer> OriginsRefused { get; init; }

    /// <summary>Bugs since the start.</summary>
    [Example(0)]
    public required long Bugs { get; init; }

    /// <summary>Failures of the store since the start.</summary>
    [Example(0)]
    public required long StoreFailures { get; init; }

    /// <summary>Kinds of faults, newest first, at most 20.</summary>
    public required IReadOnlyList<FaultAnswer> Faults { get; init; }

    /// <summary>Erasures that are under way.</summary>
    [Example(0)]
    public required long Erasures { get; init; }

    /// <summary>Work that could not be carried out and was set aside, newest first, at most 50.</summary>
    public required IReadOnlyList<SetAsideAnswer> SetAside { get; init; }

    /// <summary>The service's clock.</summary>
    public required ClockReading Clock { get; init; }

    /// <summary>The data folder, or the database.</summary>
    [Example("/var/lib/rovett")]
    public required string Data { get; init; }

    /// <summary>Bytes of the history on disk.</summary>
    [Example(1_482_752)]
    public required long HistoryBytes { get; init; }

    /// <summary>Bytes of memory that the process has.</summary>
    [Example(98_304_000)]
    public required long ResidentBytes { get; init; }

    /// <summary>Bytes that its objects took after the last whole garbage collection; 0: there was none yet.</summary>
    [Example(12_582_912)]
    public required long LiveBytes { get; init; }
}

/// <summary>An origin that was refused.</summary>
public sealed record RefusedOriginAnswer
{
    /// <summary>The origin.</summary>
    [Example("https://crew.marrowsound.example")]
    public required string Origin { get; init; }

    /// <summary>How often.</summary>
    [Example(3)]
    public required long Count { get; init; }

    /// <summary>When last.</summary>
    public required StoredTime Last { get; init; }

    /// <summary>How to allow it.</summary>
    [Example("Add it to 'origins': PATCH /v1/settings for this space, or the service's configuration for all.")]
    public required string Fix { get; init; }

    internal static RefusedOriginAnswer Of(RefusedOrigin refused, SpaceRuntime space) => new()
    {
        Origin = refused.Origin,
        Count = refused.Count,
        Last = refused.Last,
        Fix = $"Add it to 'origins': PATCH {space.PathPrefix}/v1/settings for this space, or the service's configuration for all.",
    };
}

/// <summary>A kind of fault, as often as it happened.</summary>
public sealed record FaultAnswer
{
    /// <summary>Where: an endpoint, or a part of the service.</summary>
    [Example("POST /v1/notifications")]
    public required string Where { get; init; }

    /// <summary>What: the kind of exception and its message.</summary>
    [Example("IOException: No space left on device")]
    public required string What { get; init; }

    /// <summary>How often.</summary>
    [Example(2)]
    public required long Count { get; init; }

    /// <summary>When last.</summary>
    public required StoredTime Last { get; init; }
}

/// <summary>Something that could not be carried out.</summary>
public sealed record SetAsideAnswer
{
    /// <summary>When it was set aside.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>Something that was due, what a missed deadline or a gathering was to send, or an event whose rule failed.</summary>
    [OneOf("due", "otherwise", "event", "gathering"), Example("otherwise")]
    public required string Kind { get; init; }

    /// <summary>The position of the notification it belongs to.</summary>
    [Example(4711)]
    public required long Position { get; init; }

    /// <summary>Why.</summary>
    [Example("No address in 'to' is known.")]
    public required string Why { get; init; }

    /// <summary>The work set aside; of events and gatherings only their number: <c>/v1/set-aside</c> has the rest, for
    /// administrators.</summary>
    [Example("{\"addressing\":[\"+role:duty-manager\"]}")]
    public required JsonElement Detail { get; init; }
}

/// <summary>The service's clock.</summary>
public sealed record ClockReading
{
    /// <summary>The time.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>A step of the system's clock that is not believed yet.</summary>
    public ClockStepAnswer? Step { get; init; }

    /// <summary>How far retention is behind, so that a clock that was set wrong deletes nothing.</summary>
    [Example(0)]
    public required double RetentionHeldBackSeconds { get; init; }
}

/// <summary>A step of the system's clock that is not believed yet.</summary>
public sealed record ClockStepAnswer
{
    /// <summary>How far it went.</summary>
    [Example(3600)]
    public required double BySeconds { get; init; }

    /// <summary>For how long it has been so.</summary>
    [Example(120)]
    public required double ForSeconds { get; init; }

    /// <summary>After how long it is believed.</summary>
    [Example(300)]
    public required double BelievedAfterSeconds { get; init; }
}

/// <summary>The limits.</summary>
public sealed record LimitList
{
    /// <summary>Each limit.</summary>
    public required IReadOnlyList<LimitAnswer> Limits { get; init; }
}

/// <summary>A limit, and how much of it is used.</summary>
public sealed record LimitAnswer
{
    /// <summary>Its name in the configuration.</summary>
    [Example("sendsPerSecond")]
    public required string Name { get; init; }

    /// <summary>The limit; absent: none.</summary>
    [Example(200)]
    public int? Limit { get; init; }

    /// <summary>The most that is used of it now.</summary>
    [Example(12)]
    public required int Used { get; init; }

    /// <summary>The quantity it limits.</summary>
    [Example("sends of one API key a second")]
    public required string What { get; init; }
}

/// <summary>Open sessions.</summary>
public sealed record SessionList
{
    /// <summary>The sessions, oldest first, at most 1,000.</summary>
    public required IReadOnlyList<SessionAnswer> Sessions { get; init; }
}

/// <summary>A session: one device of one user that is connected.</summary>
public sealed record SessionAnswer
{
    /// <summary>Its id.</summary>
    [Example("7Jx2mQ0bV4k9dKx2Qp0aZ4")]
    public required string Session { get; init; }

    /// <summary>The user.</summary>
    [Example("mara")]
    public required string User { get; init; }

    /// <summary>The device.</summary>
    [Example("phone")]
    public required string Device { get; init; }

    /// <summary>The device's name.</summary>
    [Example("Mara's phone")]
    public string? Label { get; init; }

    /// <summary>How it is connected.</summary>
    [OneOf("websocket", "sse", "long-poll"), Example("websocket")]
    public required string Transport { get; init; }

    /// <summary>What the device says it tried before, and why that did not work.</summary>
    [Example("websocket: the upgrade failed")]
    public required IReadOnlyList<string> Tried { get; init; }

    /// <summary>Since when.</summary>
    public required StoredTime Since { get; init; }

    /// <summary>How it is.</summary>
    [OneOf("opening", "catching up", "live", "silent", "ending"), Example("live")]
    public required string State { get; init; }

    /// <summary>The channels it is on.</summary>
    [Example("user:mara", "role:engineer", "everyone")]
    public required IReadOnlyList<string> Channels { get; init; }

    /// <summary>Notifications sent to it.</summary>
    [Example(12)]
    public required long Sent { get; init; }

    /// <summary>Those of them that it has not acknowledged.</summary>
    [Example(0)]
    public required int Outstanding { get; init; }

    /// <summary>How many may be sent to it before it acknowledges some.</summary>
    [Example(256)]
    public required int Window { get; init; }

    /// <summary>Everything for it up to this cursor has been sent or is queued; absent until it has been let in.</summary>
    [Example("7Jx2mQ0bV4k9dKx2Qp0aZ4")]
    public string? Cursor { get; init; }

    internal static SessionAnswer Of(IOpenSession session) => new()
    {
        Session = session.Id,
        User = session.User,
        Device = session.Device,
        Label = session.Label,
        Transport = session.TransportName,
        Since = session.Since,
        State = session.StateName,
        Channels = [.. session.ChannelNames],
        Sent = session.Sent,
        Outstanding = session.Outstanding,
        Tried = session.Tried,
        Window = session.Window,
        Cursor = session.Through is { } through ? session.Space.Cursors.Seal(through) : null,
    };
}
