using System.Text.Json;
using Fluid;
using Rovett.Core.Events;
using Rovett.Core.Rules.Templates;
using Rovett.Core.Yaml;

namespace Rovett.Core.Rules;

/// <summary>A part of a rule's notification: literal JSON, or text to be filled in.</summary>
abstract class NotificationPart
{
    /// <summary>Writes it for an event.</summary>
    public abstract void Write(Utf8JsonWriter json, TemplateContext context);

    /// <summary>Writes it as it could be, to check everything else.</summary>
    public abstract void WriteSample(Utf8JsonWriter json);
}

/// <summary>A literal scalar.</summary>
sealed class LiteralPart(RuleNode node) : NotificationPart
{
    public override void Write(Utf8JsonWriter json, TemplateContext context) => WriteSample(json);

    public override void WriteSample(Utf8JsonWriter json) => node.Write(json);
}

/// <summary>A text that is filled in.</summary>
/// <param name="template">The text.</param>
/// <param name="sample">A text that it could become.</param>
/// <param name="cutAt">Longer texts are cut, and end with …; null: they are refused.</param>
/// <param name="oneLine">Line breaks become blanks.</param>
sealed class TextPart(TextTemplate template, string sample, int? cutAt = null, bool oneLine = false) : NotificationPart
{
    public override void Write(Utf8JsonWriter json, TemplateContext context) =>
        json.WriteStringValue(Finished(template.Render(context), cutAt, oneLine));

    public static string Finished(string text, int? cutAt, bool oneLine)
    {
        if (oneLine && text.AsSpan().ContainsAny('\r', '\n', '\t'))
        {
            text = text.Replace("\r\n", " ", StringComparison.Ordinal).Replace('\n', ' ').Replace('\r', ' ').Replace('\t', ' ');
        }
        if (cutAt is not { } most || text.Length <= most) return text;
        int end = char.IsHighSurrogate(text[most - 2]) ? most - 2 : most - 1;
        return string.Concat(text.AsSpan(0, end), "…");
    }

    public override void WriteSample(Utf8JsonWriter json) => json.WriteStringValue(sample);
}

/// <summary>A value of the data that keeps its JSON type when it is one <c>{{ … }}</c>.</summary>
sealed class ValuePart(TextTemplate template) : NotificationPart
{
    public override void Write(Utf8JsonWriter json, TemplateContext context)
    {
        if (template.IsOneValue) template.WriteValue(json, context);
        else json.WriteStringValue(template.Render(context));
    }

    public override void WriteSample(Utf8JsonWriter json) => json.WriteStringValue("x");
}

/// <summary>A whole link out of the event, on one of the hosts named.</summary>
sealed class WholeLinkPart(DataPointer from, IReadOnlyList<string> hosts) : NotificationPart
{
    public override void Write(Utf8JsonWriter json, TemplateContext context)
    {
        var found = Rule.EventOf(context).At(from.Steps);
        if (found is not { ValueKind: JsonValueKind.String } text)
        {
            throw new TemplateFault($"{from.Text} is missing or not a text; the link needs it", isMissing: true);
        }
        var link = text.GetString()!;
        if (!Uri.TryCreate(link, UriKind.Absolute, out var uri) || uri.Scheme is not ("http" or "https"))
        {
            throw new TemplateFault($"{from.Text} is not an http(s) address");
        }
        if (uri.UserInfo.Length > 0 || !hosts.Contains(uri.Authority, StringComparer.OrdinalIgnoreCase))
        {
            throw new TemplateFault($"{from.Text} leads to {uri.Authority}, which is not one of the rule's hosts");
        }
        json.WriteStringValue(link);
    }

    public override void WriteSample(Utf8JsonWriter json) => json.WriteStringValue("https://example.com/");
}

/// <summary>A list.</summary>
sealed class ListPart(IReadOnlyList<NotificationPart> items) : NotificationPart
{
    public override void Write(Utf8JsonWriter json, TemplateContext context)
    {
        json.WriteStartArray();
        foreach (var item in items) item.Write(json, context);
        json.WriteEndArray();
    }

    public override void WriteSample(Utf8JsonWriter json)
    {
        json.WriteStartArray();
        foreach (var item in items) item.WriteSample(json);
        json.WriteEndArray();
    }
}

/// <summary>A mapping.</summary>
/// <param name="members">Its members.</param>
/// <param name="isNotification">Type and subject are the event's unless it has them.</param>
sealed class MapPart(IReadOnlyList<(string Name, NotificationPart Part)> members, bool isNotification = false) : NotificationPart
{
    public IReadOnlyList<(string Name, NotificationPart Part)> Members => members;

    public override void Write(Utf8JsonWriter json, TemplateContext context)
    {
        json.WriteStartObject();
        if (isNotification) WriteDefaults(json, Rule.EventOf(context).Type, Rule.EventOf(context).Subject);
        foreach (var (name, part) in members)
        {
            json.WritePropertyName(name);
            part.Write(json, context);
        }
        json.WriteEndObject();
    }

    void WriteDefaults(Utf8JsonWriter json, string type, string? subject)
    {
        if (!members.Any(m => m.Name == "type")) json.WriteString("type", type);
        if (subject is not null && !members.Any(m => m.Name == "subject")) json.WriteString("subject", subject);
    }

    public override void WriteSample(Utf8JsonWriter json)
    {
        json.WriteStartObject();
        if (isNotification) WriteDefaults(json, "x", null);
        WriteSampleMembers(json);
        json.WriteEndObject();
    }

    public void WriteSampleMembers(Utf8JsonWriter json)
    {
        foreach (var (name, part) in members)
        {
            json.WritePropertyName(name);
            part.WriteSample(json);
        }
    }
}
