using System.Buffers;
using System.Text.Json;
using System.Text.RegularExpressions;
using Fluid;
using Fluid.Values;
using Rovett.Core.Rules.Templates;
using Rovett.Core.Yaml;

namespace Rovett.Core.Rules;

/// <summary>How an event is made of something plainer, such as a line of text: its attributes and data, with templates in them that use
/// the fields of the line.</summary>
public sealed partial class EventShape
{
    static readonly string[] Required = ["type", "source"];
    static readonly string[] Reserved = ["specversion", "datacontenttype", "data_base64", "time"];

    readonly IReadOnlyList<(string Name, TextTemplate Template)> attributes;
    readonly NotificationPart? data;

    EventShape(IReadOnlyList<(string, TextTemplate)> attributes, NotificationPart? data) =>
        (this.attributes, this.data) = (attributes, data);

    /// <summary>Whether it says which id an event has.</summary>
    public bool HasId => attributes.Any(a => a.Name == "id");

    /// <summary>Reads one, and finds every mistake in it.</summary>
    /// <param name="node">A mapping: <c>type</c>, <c>source</c>, <c>id</c>, <c>subject</c>, <c>data</c>, and other attributes.</param>
    /// <param name="path">Its place in the document.</param>
    /// <param name="fields">The fields that templates can use, beside <c>now</c>.</param>
    /// <param name="hasData">Whether they can use <c>data</c>.</param>
    /// <param name="mistakes">Receives the mistakes.</param>
    public static EventShape? Read(RuleNode node, string path, IReadOnlyCollection<string> fields, bool hasData, List<RuleMistake> mistakes)
    {
        if (node.Kind != RuleNodeKind.Map)
        {
            mistakes.Add(RuleMistake.At(node, path, $"must be a mapping with type, source and data, not {node.KindName}"));
            return null;
        }
        int before = mistakes.Count;
        var reader = new Reader(fields, hasData, mistakes);
        foreach (var name in Required)
        {
            if (node[name] is null) mistakes.Add(RuleMistake.At(node, $"{path}.{name}", "is missing"));
        }
        var attributes = new List<(string, TextTemplate)>();
        NotificationPart? data = null;
        foreach (var member in node.Members)
        {
            var at = $"{path}.{member.Name}";
            if (member.Name == "data") data = DataParts.Of(member.Value, at, reader.Template);
            else if (Reserved.Contains(member.Name)) mistakes.Add(RuleMistake.At(member, at, "is filled in by the service; leave it out"));
            else if (!member.Name.All(c => c is (>= 'a' and <= 'z') or (>= '0' and <= '9')))
            {
                mistakes.Add(RuleMistake.At(member, at, "is not the name of an attribute; names are of a-z and 0-9"));
            }
            else if (member.Value.Kind is RuleNodeKind.List or RuleNodeKind.Map or RuleNodeKind.Null)
            {
                mistakes.Add(RuleMistake.At(member.Value, at, "must be a text"));
            }
            else if (reader.Template(member.Value, at) is { } template) attributes.Add((member.Name, template));
        }
        return mistakes.Count > before ? null : new EventShape(attributes, data);
    }

    /// <summary>Makes the event, in the JSON format of CloudEvents.</summary>
    /// <param name="fields">The fields of the line.</param>
    /// <param name="given">What <c>data</c> is in templates, and the event's data unless the shape has its own; null: there is
    /// none.</param>
    /// <param name="id">The event's id, unless the shape says which it has.</param>
    /// <param name="now">The time of the event.</param>
    /// <param name="zone">The zone of times in texts.</param>
    /// <exception cref="RuleFailure">A template has no result.</exception>
    public byte[] Make(IReadOnlyDictionary<string, string> fields, JsonElement? given, string id, DateTimeOffset now, TimeZoneInfo zone)
    {
        var context = new TemplateContext(Names(fields, given), RuleTemplates.OptionsIn(zone), true) { Now = () => now };
        new TemplateWork().AddTo(context);
        var buffer = new ArrayBufferWriter<byte>(256);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions))
        {
            json.WriteStartObject();
            json.WriteString("specversion", "1.0");
            if (!HasId) json.WriteString("id", id);
            foreach (var (name, template) in attributes) json.WriteString(name, Guarded(name, () => template.Render(context)));
            json.WriteString("time", now.UtcDateTime);
            if (data is not null)
            {
                json.WritePropertyName("data");
                Guarded("data", () =>
                {
                    data.Write(json, context);
                    return "";
                });
            }
            else if (given is { } whole)
            {
                json.WritePropertyName("data");
                whole.WriteTo(json);
            }
            json.WriteEndObject();
        }
        return buffer.WrittenSpan.ToArray();
    }

    /// <summary>A field that is written as JSON writes numbers is one.</summary>
    static TemplateNames Names(IReadOnlyDictionary<string, string> fields, JsonElement? given) => new(name =>
        fields.TryGetValue(name, out var text) ? JsonNumber().IsMatch(text) ? new JsonNumberValue(text) : new StringValue(text)
        : name == "data" && given is { } data ? EventValues.Of(data, "data") : new MissingValue(name));

    [GeneratedRegex(@"^-?(0|[1-9][0-9]{0,14})(\.[0-9]{1,14})?$")]
    private static partial Regex JsonNumber();

    static string Guarded(string name, Func<string> work)
    {
        try
        {
            return work();
        }
        catch (TemplateFault fault)
        {
            throw new RuleFailure($"{name}: {fault.Message}");
        }
    }

    sealed class Reader(IReadOnlyCollection<string> fields, bool hasData, List<RuleMistake> mistakes)
    {
        public TextTemplate? Template(RuleNode node, string path)
        {
            if (TextTemplate.TryParse(node.Text, TextPlace.Text, out var template) is { } wrong)
            {
                mistakes.Add(RuleMistake.At(node, path, wrong));
                return null;
            }
            List<string> known = [.. fields, .. hasData ? ["data"] : Array.Empty<string>()];
            foreach (var unknown in template.Names.Except(known))
            {
                mistakes.Add(RuleMistake.At(node, path, $"uses '{unknown}', which is not there; there is " +
                    (known.Count == 0 ? "nothing to fill in here" : string.Join(", ", known))));
            }
            return template;
        }
    }
}
