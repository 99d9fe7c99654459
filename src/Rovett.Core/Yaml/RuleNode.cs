using System.Buffers;
using System.Globalization;
using System.Text.Json;

namespace Rovett.Core.Yaml;

/// <summary>The kinds of value in a rules file.</summary>
public enum RuleNodeKind
{
    /// <summary>A text.</summary>
    Text,
    /// <summary>A number.</summary>
    Number,
    /// <summary><c>true</c> or <c>false</c>.</summary>
    Flag,
    /// <summary>Nothing: <c>null</c>, or no value at all.</summary>
    Null,
    /// <summary>A list.</summary>
    List,
    /// <summary>A mapping.</summary>
    Map,
}

/// <summary>A value in a rules file, with its place.</summary>
/// <param name="Kind">Its kind.</param>
/// <param name="Line">Its line, from 1.</param>
/// <param name="Column">Its column, from 1.</param>
public sealed record RuleNode(RuleNodeKind Kind, int Line, int Column)
{
    /// <summary>A scalar as written.</summary>
    public string Text { get; init; } = "";

    /// <summary>The value of a flag.</summary>
    public bool Flag => Text is "true" or "True" or "TRUE";

    /// <summary>The value of a number.</summary>
    public decimal Number => decimal.Parse(Text, NumberStyles.Float, CultureInfo.InvariantCulture);

    /// <summary>The items of a list.</summary>
    public IReadOnlyList<RuleNode> Items { get; init; } = [];

    /// <summary>The members of a mapping, in the order written.</summary>
    public IReadOnlyList<RuleMember> Members { get; init; } = [];

    /// <summary>As JSON.</summary>
    public JsonElement ToJson()
    {
        var buffer = new ArrayBufferWriter<byte>(256);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions)) Write(json);
        return JsonElement.Parse(buffer.WrittenSpan);
    }

    /// <summary>Writes it as JSON.</summary>
    public void Write(Utf8JsonWriter json)
    {
        switch (Kind)
        {
            case RuleNodeKind.List:
                json.WriteStartArray();
                foreach (var item in Items) item.Write(json);
                json.WriteEndArray();
                break;
            case RuleNodeKind.Map:
                json.WriteStartObject();
                foreach (var member in Members)
                {
                    json.WritePropertyName(member.Name);
                    member.Value.Write(json);
                }
                json.WriteEndObject();
                break;
            case RuleNodeKind.Null: json.WriteNullValue(); break;
            case RuleNodeKind.Flag: json.WriteBooleanValue(Flag); break;
            case RuleNodeKind.Number: json.WriteNumberValue(Number); break;
            default: json.WriteStringValue(Text); break;
        }
    }

    /// <summary>A member of a mapping, or null.</summary>
    public RuleNode? this[string name] => Members.FirstOrDefault(m => m.Name == name)?.Value;

    /// <summary>The kind in words.</summary>
    public string KindName => Kind switch
    {
        RuleNodeKind.Text => "text",
        RuleNodeKind.Number => "number",
        RuleNodeKind.Flag => "true or false",
        RuleNodeKind.Null => "nothing",
        RuleNodeKind.List => "list",
        _ => "mapping",
    };
}

/// <summary>A member of a mapping.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Line">The line of the name.</param>
/// <param name="Column">The column of the name.</param>
/// <param name="Value">Its value.</param>
public sealed record RuleMember(string Name, int Line, int Column, RuleNode Value);
