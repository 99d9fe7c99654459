using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.Json.Serialization.Metadata;
using Rovett.Service.Http;

namespace Rovett.Service.Reference;

/// <summary>Examples of whole bodies, put together from those of their members (<see cref="ExampleAttribute"/>).</summary>
static class ReferenceExamples
{
    /// <summary>A time as in every example.</summary>
    public const string Time = "2027-06-14T09:30:00.000000Z";

    /// <summary>An example of a type; null when it has none.</summary>
    /// <param name="type">The type.</param>
    /// <param name="options">How it is written.</param>
    public static JsonNode? Of(Type type, JsonSerializerOptions options)
    {
        if (options.GetTypeInfo(type) is not { Kind: JsonTypeInfoKind.Object } info) return null;
        var example = new JsonObject();
        foreach (var property in info.Properties)
        {
            if (Of(property, options) is { } value) example[property.Name] = value;
            else if (property.IsRequired && Bare(property.PropertyType) == typeof(StoredTime)) example[property.Name] = Time;
        }
        return example;
    }

    /// <summary>An example of a member; null when it has none.</summary>
    public static JsonNode? Of(JsonPropertyInfo property, JsonSerializerOptions options)
    {
        var type = Bare(property.PropertyType);
        var given = property.AttributeProvider?.GetCustomAttributes(typeof(ExampleAttribute), false).OfType<ExampleAttribute>()
            .FirstOrDefault();
        if (given is not null)
        {
            if (type == typeof(IReadOnlyList<string>)) return new JsonArray([.. given.Values.Select(v => Node(v))]);
            return type == typeof(JsonElement) || IsMap(type) ? JsonNode.Parse((string)given.Values[0]) : Node(given.Values[0]);
        }
        if (!property.IsRequired) return null;
        if (type == typeof(IReadOnlyList<string>)) return new JsonArray();
        if (Items(type) is { } item) return Of(item, options) is { } one ? new JsonArray(one) : new JsonArray();
        return type.Namespace?.StartsWith("Rovett", StringComparison.Ordinal) == true
            && type != typeof(StoredTime) ? Of(type, options) : null;
    }

    static Type Bare(Type type) => Nullable.GetUnderlyingType(type) ?? type;

    static bool IsMap(Type type) => type.IsGenericType && type.GetGenericTypeDefinition() == typeof(IReadOnlyDictionary<,>);

    static Type? Items(Type type) =>
        type.IsGenericType && type.GetGenericTypeDefinition() == typeof(IReadOnlyList<>) ? type.GetGenericArguments()[0] : null;

    static JsonNode Node(object value) => value switch
    {
        string text => JsonValue.Create(text),
        bool flag => JsonValue.Create(flag),
        int number => JsonValue.Create(number),
        long number => JsonValue.Create(number),
        double number => JsonValue.Create(number),
        _ => throw new NotSupportedException($"No example of {value.GetType()}."),
    };
}
