using Rovett.Core.Schemas;

namespace Rovett.Core.Notifications;

/// <summary>What holds for a type of notification.</summary>
/// <param name="Receipts">The receipts kept of it.</param>
public sealed record TypeTerms(ReceiptLevel Receipts)
{
    /// <summary>The urgency of one that names none; null: normal.</summary>
    public string? Urgency { get; init; }
    /// <summary>People are always told of it.</summary>
    public bool IsAlways { get; init; }
    /// <summary>The most that is sent to devices.</summary>
    public Carry Carry { get; init; }
    /// <summary>The schema of its data; null: any data.</summary>
    public DataSchema? Data { get; init; }
    /// <summary>Why no notification of it is taken; null: it is.</summary>
    public string? Refusal { get; init; }
}
