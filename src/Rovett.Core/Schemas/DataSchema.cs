using System.Text.Json;
using System.Text.RegularExpressions;
using NJsonSchema;
using NJsonSchema.Validation;
using NJsonSchema.Validation.FormatValidators;
using Rovett.Core.Yaml;

namespace Rovett.Core.Schemas;

/// <summary>A JSON Schema of data. It refers to nothing outside itself, and its patterns are matched without backtracking.</summary>
public sealed class DataSchema
{
    const int MostMistakes = 10;

    readonly JsonSchema schema;
    readonly JsonSchemaValidatorSettings settings = new();

    /// <summary>Makes one.</summary>
    /// <param name="node">As it is written.</param>
    /// <param name="json">The same for the validator: each pattern is a format <c>pattern:</c>…</param>
    /// <param name="patterns">The patterns.</param>
    internal DataSchema(RuleNode node, string json, IReadOnlyCollection<string> patterns)
    {
        Node = node;
        schema = JsonSchema.FromJsonAsync(json).GetAwaiter().GetResult();
        foreach (var pattern in patterns)
        {
            settings.AddCustomFormatValidator(new Pattern(pattern, new Regex(pattern, RegexOptions.NonBacktracking)));
        }
    }

    /// <summary>As it is written.</summary>
    internal RuleNode Node { get; }

    /// <summary>As JSON.</summary>
    public JsonElement ToJson() => Node.ToJson();

    /// <summary>The mistakes in data.</summary>
    /// <param name="data">The data; null: there is none.</param>
    /// <param name="field">Its name, for mistakes.</param>
    public IReadOnlyList<FieldError> Check(JsonElement? data, string field)
    {
        var tooLarge = new List<FieldError>();
        if (data is { } given) FindTooLarge(given, field, tooLarge);
        if (tooLarge.Count > 0) return tooLarge;
        // No data is as good as an empty object where nothing is required.
        var found = schema.Validate(data?.GetRawText() ?? "{}", settings);
        if (found.Count == 0) return [];
        if (data is null) return [new FieldError(field, "is missing; its type has a schema that needs it")];
        return [.. found.SelectMany(Leaves).Take(MostMistakes).Select(e => new FieldError(FieldOf(field, e), DetailOf(e)))];
    }

    /// <summary>Numbers that the validator can't compare, and fails on.</summary>
    static void FindTooLarge(JsonElement element, string field, List<FieldError> mistakes)
    {
        if (mistakes.Count >= MostMistakes) return;
        switch (element.ValueKind)
        {
            case JsonValueKind.Object:
                foreach (var member in element.EnumerateObject()) FindTooLarge(member.Value, $"{field}.{member.Name}", mistakes);
                break;
            case JsonValueKind.Array:
                int i = 0;
                foreach (var item in element.EnumerateArray()) FindTooLarge(item, $"{field}[{i++}]", mistakes);
                break;
            case JsonValueKind.Number when !element.TryGetDecimal(out _):
                mistakes.Add(new FieldError(field, "is a number that no schema can check: its digits go beyond 10^28"));
                break;
            case JsonValueKind.Number when !element.TryGetInt64(out _) && element.GetRawText().AsSpan().IndexOfAny('.', 'e', 'E') < 0:
                mistakes.Add(new FieldError(field, $"is a whole number beyond {long.MinValue} to {long.MaxValue}; write it as a text"));
                break;
            default:
                break;
        }
    }

    /// <summary>Of alternatives the first one's mistakes; they are the likeliest to be meant.</summary>
    static IEnumerable<ValidationError> Leaves(ValidationError error) => error is ChildSchemaValidationError { Errors.Count: > 0 } parent
        ? parent.Errors.First().Value.SelectMany(Leaves) : [error];

    static string FieldOf(string field, ValidationError error)
    {
        var path = (error.Path ?? "").TrimStart('#').TrimStart('/');
        return path.Length == 0 ? field : field + "." + path.Replace('/', '.');
    }

    static string DetailOf(ValidationError error) => error.Kind switch
    {
        ValidationErrorKind.PropertyRequired => "is missing",
        ValidationErrorKind.NoAdditionalPropertiesAllowed => "is not in the schema of this type",
        ValidationErrorKind.StringExpected => "must be a text",
        ValidationErrorKind.NumberExpected => "must be a number",
        ValidationErrorKind.IntegerExpected => "must be a whole number",
        ValidationErrorKind.BooleanExpected => "must be true or false",
        ValidationErrorKind.ObjectExpected => "must be an object",
        ValidationErrorKind.ArrayExpected => "must be a list",
        ValidationErrorKind.NullExpected => "must be null",
        ValidationErrorKind.NotInEnumeration => $"must be one of {string.Join(", ", error.Schema.Enumeration)}",
        ValidationErrorKind.NumberTooBig => $"must be at most {error.Schema.Maximum ?? error.Schema.ExclusiveMaximum}",
        ValidationErrorKind.NumberTooSmall => $"must be at least {error.Schema.Minimum ?? error.Schema.ExclusiveMinimum}",
        ValidationErrorKind.StringTooLong => $"must have at most {error.Schema.MaxLength} characters",
        ValidationErrorKind.StringTooShort => $"must have at least {error.Schema.MinLength} characters",
        ValidationErrorKind.TooManyItems => $"must have at most {error.Schema.MaxItems} items",
        ValidationErrorKind.TooFewItems => $"must have at least {error.Schema.MinItems} items",
        _ when error.Schema.Format?.StartsWith(Pattern.Prefix, StringComparison.Ordinal) == true =>
            $"must match {error.Schema.Format[Pattern.Prefix.Length..]}",
        _ when error.Kind.ToString().EndsWith("Expected", StringComparison.Ordinal) && error.Schema.Format is { Length: > 0 } format =>
            $"must be a {format}",
        _ => $"does not meet its schema ({error.Kind})",
    };

    sealed class Pattern(string text, Regex regex) : IFormatValidator
    {
        public const string Prefix = "pattern:";
        public ValidationErrorKind ValidationErrorKind => ValidationErrorKind.PatternMismatch;
        public string Format => Prefix + text;
        public bool IsValid(string value, Newtonsoft.Json.Linq.JTokenType tokenType) =>
            tokenType != Newtonsoft.Json.Linq.JTokenType.String || regex.IsMatch(value);
    }

    /// <summary>Whether data can have something, as far as the schema says.</summary>
    /// <param name="path">The names on the way.</param>
    /// <returns>Null when it can, otherwise the mistake.</returns>
    public string? Missing(IReadOnlyList<string> path)
    {
        var node = Node;
        for (int i = 0; i < path.Count; i++)
        {
            node = Resolved(node);
            if (new[] { "allOf", "anyOf", "oneOf" }.Any(k => node[k] is not null)) return null;
            if (node["properties"] is not { } properties) return null;
            if (properties[path[i]] is { } next) node = next;
            else
            {
                if (node["additionalProperties"] is { Kind: RuleNodeKind.Map }) return null;
                var known = properties.Members.Select(m => m.Name).ToList();
                var near = NearNames.Among(known, path[i]);
                return $"the schema of the event has no {string.Join('.', path.Take(i + 1).Prepend("data"))}"
                    + (near.Count > 0 ? $"; did you mean '{near[0]}'?" : $"; there are {string.Join(", ", known)}");
            }
        }
        return null;
    }

    /// <summary>Follows a reference within the schema.</summary>
    internal RuleNode Resolved(RuleNode node)
    {
        while (node["$ref"]?.Text is { } reference) node = Node["$defs"]![reference["#/$defs/".Length..]]!;
        return node;
    }
}
