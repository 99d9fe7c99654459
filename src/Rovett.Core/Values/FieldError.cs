using System.Text.Json;

namespace Rovett.Core.Values;

/// <summary>One field at fault.</summary>
/// <param name="Field">Its path: <c>to[0]</c>, <c>data.items</c>.</param>
/// <param name="Detail">The mistake, with the fix.</param>
public readonly record struct FieldError(string Field, string Detail)
{
    /// <summary>Writes the member <c>errors</c>.</summary>
    public static void WriteAll(Utf8JsonWriter json, IReadOnlyList<FieldError> errors)
    {
        json.WriteStartArray("errors");
        foreach (var error in errors)
        {
            json.WriteStartObject();
            json.WriteString("field", error.Field);
            json.WriteString("detail", error.Detail);
            json.WriteEndObject();
        }
        json.WriteEndArray();
    }
}
