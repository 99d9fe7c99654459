using System.Text.Json;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Where receipts begin.</summary>
public sealed record ReceiptQuery
{
    /// <summary>After this cursor; <c>start</c>: at the oldest that is kept; <c>now</c>: at what comes from now on. A page
    /// without it begins at the oldest, a stream at what comes from now on.</summary>
    [Example("start")]
    public string? After { get; set; }
}

/// <summary>Receipts, oldest first.</summary>
public sealed record ReceiptPage
{
    /// <summary>A gap before them: receipts that are no longer kept, or all from before a restore.</summary>
    [OneOf("retention", "new-life")]
    public string? Gap { get; init; }

    /// <summary>The receipts.</summary>
    public required IReadOnlyList<ReceiptRecord> Receipts { get; init; }

    /// <summary>Go on after this.</summary>
    [Example("8fWm2QkYyXI0mz47a5PVrz")]
    public required string Cursor { get; init; }

    /// <summary>True when there are more.</summary>
    [Example(false)]
    public required bool More { get; init; }
}

/// <summary>Something that became of a notification.</summary>
public sealed record ReceiptRecord
{
    /// <summary>Always <c>receipt</c>.</summary>
    [OneOf("receipt"), Example("receipt")]
    public required string Kind { get; init; }

    /// <summary>Where it stands, on the last of those that one act made.</summary>
    [Example("8fWm2QkYyXI0mz47a5PVrz")]
    public string? Cursor { get; init; }

    /// <summary>The state reached.</summary>
    [Example("read")]
    public required string State { get; init; }

    /// <summary>The notification's id.</summary>
    [Example("01KB8Q0M5H7C4B9A533F1C0E7D")]
    public required string Id { get; init; }

    /// <summary>Its type.</summary>
    [Example("engine.check.due")]
    public required string Type { get; init; }

    /// <summary>The subject it is about.</summary>
    [Example("vessel/turnstone")]
    public string? Subject { get; init; }

    /// <summary>The user, or the pseudonym of a person who was erased.</summary>
    [Example("mara")]
    public string? User { get; init; }

    /// <summary>The device.</summary>
    [Example("phone")]
    public string? Device { get; init; }

    /// <summary>When.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>The trace (W3C Trace Context) of the event that it came of.</summary>
    [Example("00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")]
    public string? Trace { get; init; }

    /// <summary>Which deadline was met or missed, and by whom.</summary>
    [Example("{\"deadline\":0,\"by\":\"taken\",\"who\":\"anyone\"}")]
    public JsonElement? Deadline { get; init; }

    /// <summary>The user who took or released it, or the id of the notification that replaced it.</summary>
    public string? By { get; init; }
}

/// <summary>A webhook as a backend puts it.</summary>
public sealed record WebhookRequest
{
    /// <summary>The https address to post to.</summary>
    [Example("https://backend.marrowsound.example/rovett")]
    public string? Url { get; set; }

    /// <summary>What it is called for: receipts (default), or missed deadlines that name it in <c>otherwise</c>.</summary>
    [OneOf("receipts", "otherwise"), Example("receipts")]
    public string? Purpose { get; set; }

    /// <summary>The secret that signs the calls: <c>whsec_</c> and 24 to 64 bytes in base64. One is created when it is left out.</summary>
    public string? Secret { get; set; }

    /// <summary>Only receipts of these states.</summary>
    [AtMost(32, "texts"), Example("read", "taken", "deadlineMissed")]
    public IReadOnlyList<string>? States { get; set; }

    /// <summary>Only receipts of these types; one that ends in <c>*</c> stands for all that begin so.</summary>
    [AtMost(32, "texts"), Example("engine.*")]
    public IReadOnlyList<string>? Types { get; set; }

    /// <summary><c>start</c>: at the oldest that is kept, not at what comes from now on.</summary>
    [OneOf("start", Is = "start, or left out for what comes from now on"), Example("start")]
    public string? After { get; set; }
}

/// <summary>A webhook, and how it goes.</summary>
public sealed record WebhookAnswer
{
    /// <summary>Its name.</summary>
    [Example("backend")]
    public required string Name { get; init; }

    /// <summary>The address to post to.</summary>
    [Example("https://backend.marrowsound.example/rovett")]
    public required string Url { get; init; }

    /// <summary>What it is called for.</summary>
    [OneOf("receipts", "otherwise"), Example("receipts")]
    public required string Purpose { get; init; }

    /// <summary>The secret that signs the calls; shown when it is set, never again.</summary>
    [Example("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw")]
    public string? Secret { get; init; }

    /// <summary>Only receipts of these states; empty: all.</summary>
    [Example("read", "taken", "deadlineMissed")]
    public required IReadOnlyList<string> States { get; init; }

    /// <summary>Only receipts of these types; empty: all.</summary>
    [Example("engine.*")]
    public required IReadOnlyList<string> Types { get; init; }

    /// <summary>How it goes. <c>ended</c>: its address asked not to be called again.</summary>
    [OneOf("working", "failing", "ended"), Example("working")]
    public required string State { get; init; }

    /// <summary>For receipts: up to where it has been told.</summary>
    [Example("8fWm2QkYyXI0mz47a5PVrz")]
    public string? Delivered { get; init; }

    /// <summary>How many receipts it is behind, or how many calls wait.</summary>
    [Example(0)]
    public required long Behind { get; init; }

    /// <summary>Failures in a row.</summary>
    [Example(0)]
    public required long Failures { get; init; }

    /// <summary>The last failure.</summary>
    public string? LastError { get; init; }

    /// <summary>When it was last called.</summary>
    public StoredTime? LastTried { get; init; }

    /// <summary>When it is called again.</summary>
    public StoredTime? NextTry { get; init; }
}

/// <summary>The webhooks of a space.</summary>
public sealed record WebhookList
{
    /// <summary>The webhooks.</summary>
    public required IReadOnlyList<WebhookAnswer> Webhooks { get; init; }
}
