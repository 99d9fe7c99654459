using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;
using Rovett.Service.Http;

namespace Rovett.Service.Reference;

/// <summary>A schema: the rules of its members, which are checked from the same attributes.</summary>
sealed class SchemaTransformer : IOpenApiSchemaTransformer
{
    /// <inheritdoc/>
    public Task TransformAsync(OpenApiSchema schema, OpenApiSchemaTransformerContext context, CancellationToken cancellationToken)
    {
        var type = context.JsonTypeInfo.Type;
        if ((Nullable.GetUnderlyingType(type) ?? type) == typeof(StoredTime))
        {
            schema.Type = JsonSchemaType.String;
            schema.Format = "date-time";
            schema.Examples = [ReferenceExamples.Time];
        }
        if (type.Name.EndsWith("Request", StringComparison.Ordinal) || IsPatch(type.Name)) schema.AdditionalPropertiesAllowed = false;
        schema.Description = Comments.OneLine(schema.Description);
        if (context.JsonPropertyInfo is { } property) Member(schema, property, context.JsonTypeInfo.Options);
        return Task.CompletedTask;
    }

    /// <summary>A merge patch, in which null takes a member back to its default.</summary>
    public static bool IsPatch(string name) => name.EndsWith("Patch", StringComparison.Ordinal);

    static void Member(OpenApiSchema schema, JsonPropertyInfo property, JsonSerializerOptions options)
    {
        var attributes = property.AttributeProvider?.GetCustomAttributes(false) ?? [];
        bool writesNull = IsPatch(property.DeclaringType.Name)
            || attributes.OfType<JsonIgnoreAttribute>().Any(a => a.Condition == JsonIgnoreCondition.Never);
        if (!writesNull) schema.Type &= ~JsonSchemaType.Null;
        // Of a record, the reference to it says so.
        else if (schema.Type is { } kind && !kind.HasFlag(JsonSchemaType.Object)) schema.Type |= JsonSchemaType.Null;
        var target = schema.Items as OpenApiSchema ?? schema;
        foreach (var attribute in attributes)
        {
            switch (attribute)
            {
                case TextAttribute text: (target.MinLength, target.MaxLength) = (text.Min, text.Max); break;
                case WholeAttribute whole:
                    schema.Minimum = whole.Min.ToString();
                    if (whole.Max < long.MaxValue) schema.Maximum = whole.Max.ToString();
                    break;
                case OneOfAttribute words:
                    target.Enum = [.. words.Values.Select(v => (JsonNode)v)];
                    break;
                case AtMostAttribute most: schema.MaxItems = most.Max; break;
            }
        }
        if (ReferenceExamples.Of(property, options) is { } example && schema.Properties is null or { Count: 0 })
        {
            schema.Examples = [example];
        }
    }
}
