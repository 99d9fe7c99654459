using Rovett.Core.Notifications;
using Rovett.Core.Schemas;

namespace Rovett.Core.Catalogues;

/// <summary>A type of notification in the catalogue.</summary>
/// <param name="Type">The type.</param>
public sealed record NotificationType(string Type)
{
    /// <summary>Its names for people by language (BCP 47); the first is the one for all others. Empty: none.</summary>
    public IReadOnlyList<(string Language, string Name)> Names { get; init; } = [];
    /// <summary>The urgency of one that names none; null: normal.</summary>
    public string? Urgency { get; init; }
    /// <summary>People are always told of it.</summary>
    public bool IsAlways { get; init; }
    /// <summary>The receipts kept of it; null: as the service is configured.</summary>
    public ReceiptLevel? Receipts { get; init; }
    /// <summary>The most that is sent to devices.</summary>
    public Carry Carry { get; init; }
    /// <summary>The schema of its data; null: any data.</summary>
    public DataSchema? Data { get; init; }

    /// <summary>Its name for a person; null: it has none.</summary>
    /// <param name="languages">The languages the person prefers, best first.</param>
    public string? NameIn(IEnumerable<string> languages)
    {
        foreach (var wanted in languages)
        {
            foreach (var (language, name) in Names)
            {
                if (language.Equals(wanted, StringComparison.OrdinalIgnoreCase)
                    || wanted.StartsWith(language + "-", StringComparison.OrdinalIgnoreCase))
                {
                    return name;
                }
            }
        }
        return Names.Count > 0 ? Names[0].Name : null;
    }
}

/// <summary>A type of event in the catalogue.</summary>
/// <param name="Type">The type.</param>
/// <param name="Data">The schema of its data; null: any data.</param>
public sealed record EventType(string Type, DataSchema? Data);

/// <summary>The types of notification and of event that a space knows.</summary>
/// <param name="Types">Types of notification, in the order written.</param>
/// <param name="Events">Types of event, in the order written.</param>
public sealed record Catalogue(IReadOnlyList<NotificationType> Types, IReadOnlyList<EventType> Events)
{
    /// <summary>It knows none.</summary>
    public static readonly Catalogue None = new([], []);

    readonly Dictionary<string, NotificationType> types = Types.ToDictionary(t => t.Type);
    readonly Dictionary<string, EventType> events = Events.ToDictionary(e => e.Type);

    /// <summary>Whether receipts of each person are kept of a type.</summary>
    public bool KeepsFullReceipts => Types.Any(t => t.Receipts == ReceiptLevel.Full);

    /// <summary>A type of notification, or null.</summary>
    public NotificationType? Find(string type) => types.GetValueOrDefault(type);

    /// <summary>A type of event, or null.</summary>
    public EventType? FindEvent(string type) => events.GetValueOrDefault(type);

    /// <summary>What holds for a type of notification.</summary>
    /// <param name="type">The type.</param>
    /// <param name="receiptsOf">The receipts kept of a type that says nothing of them.</param>
    /// <param name="isStrict">Types that are not in the catalogue are refused.</param>
    public TypeTerms TermsOf(string type, Func<string, ReceiptLevel> receiptsOf, bool isStrict)
    {
        if (Find(type) is not { } known)
        {
            return new TypeTerms(receiptsOf(type)) { Refusal = isStrict ? Unknown(type, [.. types.Keys]) : null };
        }
        return new TypeTerms(known.Receipts ?? receiptsOf(type))
        {
            Urgency = known.Urgency,
            IsAlways = known.IsAlways,
            Carry = known.Carry,
            Data = known.Data,
        };
    }

    /// <summary>The mistakes in an event: its type, or its data.</summary>
    /// <param name="type">Its type.</param>
    /// <param name="data">Its data; null: none.</param>
    /// <param name="isStrict">Types that are not in the catalogue are refused.</param>
    public IReadOnlyList<FieldError> MistakesIn(string type, System.Text.Json.JsonElement? data, bool isStrict)
    {
        if (FindEvent(type) is { } known) return known.Data?.Check(data, "data") ?? [];
        return isStrict ? [new FieldError("type", Unknown(type, [.. events.Keys]))] : [];
    }

    static string Unknown(string type, IReadOnlyList<string> known)
    {
        var near = NearNames.Among(known, type);
        return $"'{(type.Length <= 64 ? type : type[..64] + "…")}' is not in the catalogue, and this space takes no other types "
            + "(strictTypes)" + (near.Count > 0 ? $"; did you mean '{near[0]}'?" : "; add it (PUT /v1/types)");
    }
}
