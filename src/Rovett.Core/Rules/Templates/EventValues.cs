using System.Globalization;
using System.Text.Encodings.Web;
using System.Text.Json;
using Fluid;
using Fluid.Values;
using Rovett.Core.Events;

namespace Rovett.Core.Rules.Templates;

/// <summary>A JSON value of an event as a template's value.</summary>
static class EventValues
{
    /// <summary>The value, or <see cref="MissingValue"/> for null.</summary>
    /// <param name="element">The JSON value.</param>
    /// <param name="path">Its place, for faults: <c>data.vessel.name</c>.</param>
    public static FluidValue Of(JsonElement element, string path) => element.ValueKind switch
    {
        JsonValueKind.String => new StringValue(element.GetString()!),
        JsonValueKind.Number => new JsonNumberValue(element.GetRawText()),
        JsonValueKind.True => BooleanValue.True,
        JsonValueKind.False => BooleanValue.False,
        JsonValueKind.Object => new JsonObjectValue(element, path),
        JsonValueKind.Array => new ArrayValue([.. element.EnumerateArray().Select((e, i) => Of(e, $"{path}[{i}]"))]),
        _ => new MissingValue(path),
    };

    /// <summary>Writes a value as JSON.</summary>
    public static void Write(Utf8JsonWriter json, FluidValue value)
    {
        switch (value)
        {
            case JsonObjectValue o: o.Element.WriteTo(json); break;
            case JsonNumberValue n: json.WriteRawValue(n.ToStringValue()); break;
            case NumberValue n: json.WriteNumberValue(n.ToNumberValue()); break;
            case BooleanValue b: json.WriteBooleanValue(b.ToBooleanValue()); break;
            case ArrayValue a:
                json.WriteStartArray();
                foreach (var item in a.Values) Write(json, item);
                json.WriteEndArray();
                break;
            case MissingValue: json.WriteNullValue(); break; // an item of an array
            default: json.WriteStringValue(value.ToStringValue()); break;
        }
    }
}

/// <summary>A value that an event does not have, or that is null. Printing it, looping over it or passing it to a filter is a fault;
/// a condition takes it for false.</summary>
sealed class MissingValue(string path) : FluidValue
{
    public string Path => path;

    public TemplateFault Fault => new(
        $"{path} is missing or null; add it to the event, or give a default ({{{{ … | default: \"…\" }}}})", isMissing: true);

    public override FluidValues Type => FluidValues.Nil;

    public override bool Equals(FluidValue? other) => other is MissingValue || (other?.IsNil() ?? true);

    public override bool ToBooleanValue() => false;

    public override decimal ToNumberValue() => throw Fault;

    public override string ToStringValue() => throw Fault;

    public override object? ToObjectValue() => null;

    public override bool IsNil() => true;

    public override ValueTask<FluidValue> GetValueAsync(string name, TemplateContext context) => new MissingValue($"{path}.{name}");

    public override ValueTask<FluidValue> GetIndexAsync(FluidValue index, TemplateContext context) =>
        new MissingValue($"{path}[{index.ToStringValue()}]");

    public override IEnumerable<FluidValue> Enumerate(TemplateContext context) => throw Fault;

    public override ValueTask WriteToAsync(TextWriter writer, TextEncoder encoder, CultureInfo cultureInfo) => throw Fault;
}

/// <summary>An object of an event's data.</summary>
sealed class JsonObjectValue(JsonElement element, string path) : FluidValue
{
    public JsonElement Element => element;

    public override FluidValues Type => FluidValues.Object;

    public override bool Equals(FluidValue? other) => other is JsonObjectValue o && JsonElement.DeepEquals(element, o.Element);

    public override bool ToBooleanValue() => true;

    public override decimal ToNumberValue() => throw Whole();

    public override string ToStringValue() => throw Whole();

    public override object ToObjectValue() => element;

    public override ValueTask<FluidValue> GetValueAsync(string name, TemplateContext context) =>
        element.TryGetProperty(name, out var found) ? EventValues.Of(found, $"{path}.{name}") : new MissingValue($"{path}.{name}");

    public override ValueTask<FluidValue> GetIndexAsync(FluidValue index, TemplateContext context) =>
        GetValueAsync(index.ToStringValue(), context);

    public override ValueTask WriteToAsync(TextWriter writer, TextEncoder encoder, CultureInfo cultureInfo) => throw Whole();

    TemplateFault Whole() => new($"{path} is an object; name one of its members");
}

/// <summary>A number as the event writes it.</summary>
sealed class JsonNumberValue(string text) : FluidValue
{
    public override FluidValues Type => FluidValues.Number;

    public override bool Equals(FluidValue? other) => other?.Type == FluidValues.Number && other.ToNumberValue() == ToNumberValue();

    public override bool ToBooleanValue() => true;

    public override decimal ToNumberValue() =>
        decimal.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out decimal number) ? number
            : throw new TemplateFault($"the number {text} is too large to calculate with");

    public override string ToStringValue() => text;

    public override object ToObjectValue() => ToNumberValue();

    public override ValueTask WriteToAsync(TextWriter writer, TextEncoder encoder, CultureInfo cultureInfo)
    {
        writer.Write(text);
        return default;
    }
}

/// <summary>The names that a template can use.</summary>
/// <param name="find">Their values; <see cref="MissingValue"/> for what is not there.</param>
sealed class TemplateNames(Func<string, FluidValue> find) : FluidValue
{
    /// <summary>Those of an event: <c>data</c>, its attributes, <c>item</c> and <c>count</c>.</summary>
    public static TemplateNames Of(IncomingEvent found, JsonElement? item, int? count) => new(name => name switch
    {
        "data" => found.Data is { } data ? EventValues.Of(data, "data") : new MissingValue("data"),
        "item" when item is { } i => EventValues.Of(i, "item"),
        "count" when count is { } c => NumberValue.Create(c),
        _ => found.Attributes.TryGetValue(name, out var text) ? new StringValue(text) : new MissingValue(name),
    });

    public override FluidValues Type => FluidValues.Object;

    public override bool Equals(FluidValue? other) => ReferenceEquals(this, other);

    public override bool ToBooleanValue() => true;

    public override decimal ToNumberValue() => 0;

    public override string ToStringValue() => "";

    public override object ToObjectValue() => this;

    public override ValueTask<FluidValue> GetValueAsync(string name, TemplateContext context) => find(name);

    public override ValueTask WriteToAsync(TextWriter writer, TextEncoder encoder, CultureInfo cultureInfo) => default;
}
