using System.Globalization;
using System.Text.Json;
using Rovett.Core.Events;

namespace Rovett.Core.Rules;

/// <summary>A value that a condition compares with.</summary>
/// <param name="Text">As written.</param>
/// <param name="Number">Its number, when it is one.</param>
/// <param name="Flag">Its truth, when it is <c>true</c> or <c>false</c>.</param>
public sealed record Comparand(string Text, decimal? Number, bool? Flag)
{
    /// <summary>Whether a text matches: equal, or beginning with what is before a last <c>*</c>.</summary>
    public bool Matches(string text) => Text.EndsWith('*')
        ? text.AsSpan().StartsWith(Text.AsSpan(0, Text.Length - 1), StringComparison.Ordinal)
        : text == Text;
}

/// <summary>One condition of a rule: on an attribute of the event, or on a value in its data.</summary>
/// <param name="Subject">The attribute, or <c>data:</c> and a JSON Pointer, as written.</param>
/// <param name="Pointer">The place in the data; null: an attribute.</param>
public sealed record Condition(string Subject, DataPointer? Pointer)
{
    /// <summary>The value, or one of its items, is one of these; null: any.</summary>
    public IReadOnlyList<Comparand>? OneOf { get; init; }
    /// <summary>The value, and each of its items, is none of these; null: any.</summary>
    public IReadOnlyList<Comparand>? Not { get; init; }
    /// <summary>The value is there, or is not; null: either.</summary>
    public bool? Exists { get; init; }
    /// <summary>The value is this number or a higher one.</summary>
    public decimal? AtLeast { get; init; }
    /// <summary>The value is this number or a lower one.</summary>
    public decimal? AtMost { get; init; }
    /// <summary>The value is a higher number.</summary>
    public decimal? Above { get; init; }
    /// <summary>The value is a lower number.</summary>
    public decimal? Below { get; init; }

    bool ComparesNumbers => AtLeast is not null || AtMost is not null || Above is not null || Below is not null;

    /// <summary>Whether an event meets it.</summary>
    public bool IsMet(IncomingEvent found)
    {
        if (Pointer is null) return found.Attributes.TryGetValue(Subject, out var text) ? IsMet(new Compared(text)) : IsMetByNothing;
        return found.At(Pointer.Steps) is { ValueKind: not JsonValueKind.Null } element ? IsMet(element) : IsMetByNothing;
    }

    bool IsMetByNothing => Exists != true && OneOf is null && !ComparesNumbers;

    bool IsMet(JsonElement element)
    {
        if (element.ValueKind != JsonValueKind.Array) return IsMet(new Compared(element));
        if (Exists == false) return false;
        bool any = OneOf is null && !ComparesNumbers;
        foreach (var item in element.EnumerateArray())
        {
            if (item.ValueKind == JsonValueKind.Null) continue;
            var value = new Compared(item);
            if (Not is not null && value.IsOneOf(Not)) return false;
            any |= (OneOf is null || value.IsOneOf(OneOf)) && IsInRange(value);
        }
        return any;
    }

    bool IsMet(Compared value) => Exists != false && (OneOf is null || value.IsOneOf(OneOf)) && (Not is null || !value.IsOneOf(Not))
        && IsInRange(value);

    bool IsInRange(Compared value) => !ComparesNumbers || (value.Number is { } number
        && !(number < AtLeast) && !(number > AtMost) && !(number <= Above) && !(number >= Below));

    /// <summary>The condition and the event's value in words: why it is not met.</summary>
    public string Explain(IncomingEvent found)
    {
        string? actual;
        if (Pointer is null) actual = found.Attributes.GetValueOrDefault(Subject);
        else
        {
            actual = found.At(Pointer.Steps) is { ValueKind: not JsonValueKind.Null } e ? e.GetRawText() : null;
            if (actual?.Length > 80) actual = actual[..79] + "…";
        }
        return $"{Subject} is {actual ?? "missing"}; must be {string.Join(" and ", Terms())}";
    }

    IEnumerable<string> Terms()
    {
        if (OneOf is not null) yield return string.Join(" or ", OneOf.Select(c => c.Text));
        if (Not is not null) yield return "none of " + string.Join(", ", Not.Select(c => c.Text));
        if (Exists is { } exists) yield return exists ? "there" : "absent";
        if (AtLeast is { } atLeast) yield return string.Create(CultureInfo.InvariantCulture, $"at least {atLeast}");
        if (AtMost is { } atMost) yield return string.Create(CultureInfo.InvariantCulture, $"at most {atMost}");
        if (Above is { } above) yield return string.Create(CultureInfo.InvariantCulture, $"above {above}");
        if (Below is { } below) yield return string.Create(CultureInfo.InvariantCulture, $"below {below}");
    }

    /// <summary>An attribute or a JSON value, to be compared.</summary>
    readonly struct Compared
    {
        readonly string? text;
        readonly bool? flag;

        public Compared(string attribute)
        {
            text = attribute;
            Number = decimal.TryParse(attribute, NumberStyles.Float, CultureInfo.InvariantCulture, out decimal number) ? number : null;
            flag = attribute switch { "true" => true, "false" => false, _ => null };
        }

        public Compared(JsonElement element)
        {
            text = element.ValueKind == JsonValueKind.String ? element.GetString() : null;
            Number = element.ValueKind == JsonValueKind.Number && element.TryGetDecimal(out decimal number) ? number : null;
            flag = element.ValueKind switch { JsonValueKind.True => true, JsonValueKind.False => false, _ => null };
        }

        public decimal? Number { get; }

        public bool IsOneOf(IReadOnlyList<Comparand> comparands)
        {
            for (int i = 0; i < comparands.Count; i++)
            {
                if (Is(comparands[i])) return true;
            }
            return false;
        }

        bool Is(Comparand comparand)
        {
            if (comparand.Number is { } number) return Number == number;
            if (comparand.Flag is { } wanted) return flag == wanted;
            return text is not null && comparand.Matches(text);
        }
    }
}
