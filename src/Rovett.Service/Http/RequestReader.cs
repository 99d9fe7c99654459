using System.Collections.Concurrent;
using System.Globalization;
using System.Reflection;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;

namespace Rovett.Service.Http;

/// <summary>Reads bodies and queries into their records, and finds everything wrong with them at once: members that are
/// unknown or of another kind, and values that break a <see cref="RuleAttribute"/>.</summary>
static class RequestReader
{
    sealed record Member(JsonPropertyInfo Property, IReadOnlyList<RuleAttribute> Rules, AtMostAttribute? Most);

    sealed record Shape(JsonTypeInfo Type, IReadOnlyDictionary<string, Member> Members);

    static readonly ConcurrentDictionary<JsonTypeInfo, Shape> Shapes = new();

    /// <summary>Reads a body.</summary>
    /// <param name="root">The body.</param>
    /// <param name="type">Its shape.</param>
    /// <exception cref="ProblemException">422: it is no object.</exception>
    public static Given<T> Body<T>(JsonElement root, JsonTypeInfo type)
    {
        var shape = ShapeOf(type);
        if (root.ValueKind != JsonValueKind.Object)
        {
            throw Problem.Invalid(
                [new FieldError("(body)", $"must be a JSON object; its members are {string.Join(", ", shape.Members.Keys)}")])
                .ToException();
        }
        var errors = new List<FieldError>();
        var members = new HashSet<string>();
        return new Given<T>((T)Object(root, shape, "", members, errors), members, errors, isQuery: false);
    }

    /// <summary>Reads a query. Parameters that are unknown are left alone.</summary>
    /// <param name="query">The query.</param>
    /// <param name="type">Its shape.</param>
    public static Given<T> Query<T>(IQueryCollection query, JsonTypeInfo type)
    {
        var shape = ShapeOf(type);
        var value = shape.Type.CreateObject!();
        var errors = new List<FieldError>();
        var members = new HashSet<string>();
        foreach (var (name, member) in shape.Members)
        {
            if (!query.TryGetValue(name, out var texts)) continue;
            members.Add(name);
            object? read = Bare(member) switch
            {
                var t when t == typeof(string) => texts.ToString(),
                var t when t == typeof(bool) => bool.TryParse(texts, out bool flag) ? flag : null,
                var t when t == typeof(int) =>
                    int.TryParse(texts, NumberStyles.None, CultureInfo.InvariantCulture, out int number) ? number : null,
                _ => long.TryParse(texts, NumberStyles.None, CultureInfo.InvariantCulture, out long number) ? number : null,
            };
            if (Fault(read, member) is { } fault) errors.Add(new FieldError(name, fault));
            else member.Property.Set!(value, read);
        }
        return new Given<T>((T)value, members, errors, isQuery: true);
    }

    static object Object(JsonElement root, Shape shape, string path, HashSet<string> given, List<FieldError> errors)
    {
        var value = shape.Type.CreateObject!();
        foreach (var element in root.EnumerateObject())
        {
            var name = JsonText.NameOf(element);
            given.Add(name);
            if (!shape.Members.TryGetValue(name, out var member))
            {
                var near = NearNames.Among(shape.Members.Keys, name);
                var shown = name.Length <= 64 ? name : name[..64] + "…";
                errors.Add(new FieldError(path + shown, near.Count > 0 ? $"is unknown; did you mean '{near[0]}'?"
                    : $"is unknown; the members are {string.Join(", ", shape.Members.Keys)}"));
                continue;
            }
            int before = errors.Count;
            var read = Value(element.Value, member, path + name, errors);
            if (errors.Count == before && read is not null) member.Property.Set!(value, read);
        }
        return value;
    }

    static object? Value(JsonElement element, Member member, string path, List<FieldError> errors)
    {
        var type = Bare(member);
        if (type == typeof(IReadOnlyList<string>)) return Items(element, member, path, errors);
        if (type.IsGenericType && type.GetGenericTypeDefinition() == typeof(IReadOnlyList<>))
        {
            return Objects(element, type.GenericTypeArguments[0], member, path, errors);
        }
        if (type == typeof(JsonElement))
        {
            if (JsonText.HasBadText(element)) errors.Add(new FieldError(path, "contains half of a surrogate pair"));
            return element;
        }
        object? value = null;
        if (type == typeof(string)) value = JsonText.TryString(element, out var text) ? text : null;
        else if (type == typeof(bool))
        {
            value = element.ValueKind is JsonValueKind.True or JsonValueKind.False ? element.GetBoolean() : null;
        }
        else if (type == typeof(int))
        {
            value = element.ValueKind == JsonValueKind.Number && element.TryGetInt32(out int number) ? number : null;
        }
        else throw new NotSupportedException($"No reader for {type}.");
        if (Fault(value, member) is { } fault) errors.Add(new FieldError(path, fault));
        return value;
    }

    static List<string> Items(JsonElement element, Member member, string path, List<FieldError> errors)
    {
        var list = new List<string>();
        if (element.ValueKind != JsonValueKind.Array || element.GetArrayLength() > (member.Most?.Max ?? int.MaxValue))
        {
            errors.Add(new FieldError(path, member.Most?.Detail ?? "must be an array of texts"));
            return list;
        }
        int i = 0;
        foreach (var item in element.EnumerateArray())
        {
            if (!JsonText.TryString(item, out var text)) errors.Add(new FieldError($"{path}[{i}]", "must be a text"));
            else if (member.Rules.FirstOrDefault(r => !r.Allows(text)) is { } broken)
            {
                errors.Add(new FieldError($"{path}[{i}]", broken.Detail));
            }
            else list.Add(text);
            i++;
        }
        return list;
    }

    /// <summary>A list of records.</summary>
    static Array Objects(JsonElement element, Type type, Member member, string path, List<FieldError> errors)
    {
        if (element.ValueKind != JsonValueKind.Array || element.GetArrayLength() > (member.Most?.Max ?? int.MaxValue))
        {
            errors.Add(new FieldError(path, member.Most?.Detail ?? "must be an array of objects"));
            return Array.CreateInstance(type, 0);
        }
        var shape = ShapeOf(member.Property.Options.GetTypeInfo(type));
        var list = Array.CreateInstance(type, element.GetArrayLength());
        int i = 0;
        foreach (var item in element.EnumerateArray())
        {
            if (item.ValueKind == JsonValueKind.Object) list.SetValue(Object(item, shape, $"{path}[{i}].", [], errors), i);
            else errors.Add(new FieldError($"{path}[{i}]", $"must be an object; its members are {string.Join(", ", shape.Members.Keys)}"));
            i++;
        }
        return list;
    }

    /// <summary>The mistake in a value; null when it is valid.</summary>
    static string? Fault(object? value, Member member)
    {
        if (value is not null) return member.Rules.FirstOrDefault(r => !r.Allows(value))?.Detail;
        if (member.Rules.Count > 0) return member.Rules[0].Detail;
        var type = Bare(member);
        return type == typeof(string) ? "must be a text" : type == typeof(bool) ? "must be true or false" : "must be a whole number";
    }

    static Type Bare(Member member) => Nullable.GetUnderlyingType(member.Property.PropertyType) ?? member.Property.PropertyType;

    static Shape ShapeOf(JsonTypeInfo type) => Shapes.GetOrAdd(type, static t => new Shape(t, t.Properties.ToDictionary(p => p.Name,
        p => new Member(p, Rules(p), (AtMostAttribute?)p.AttributeProvider?.GetCustomAttributes(typeof(AtMostAttribute), false)
            .FirstOrDefault()))));

    static IReadOnlyList<RuleAttribute> Rules(JsonPropertyInfo property) =>
        (property.AttributeProvider as MemberInfo)?.GetCustomAttributes<RuleAttribute>().ToArray() ?? [];
}
