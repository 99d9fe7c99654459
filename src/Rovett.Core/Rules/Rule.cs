using System.Buffers;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Fluid;
using Rovett.Core.Events;
using Rovett.Core.Notifications;
using Rovett.Core.Rules.Templates;

namespace Rovett.Core.Rules;

/// <summary>A rule: which events it is for, whom it tells, and in which words.</summary>
public sealed class Rule
{
    const string EventKey = "event";
    /// <summary>The most notifications of one event.</summary>
    public const int MaxDrafts = 1000;

    internal Rule(string name, IReadOnlyList<EventPattern> events, IReadOnlyList<Condition> when, Recipients to,
        IReadOnlyList<TextTemplate> except, MapPart notification, GatherTerms? gather)
    {
        Name = name;
        Events = events;
        When = when;
        To = to;
        Except = except;
        Notification = notification;
        GatherTerms = gather;
    }

    /// <summary>Its name, which identifies it.</summary>
    public string Name { get; }

    /// <summary>The types of event it is for.</summary>
    public IReadOnlyList<EventPattern> Events { get; }

    /// <summary>Its conditions, all of which must be met.</summary>
    public IReadOnlyList<Condition> When { get; }

    /// <summary>How long it gathers events; null: it does not.</summary>
    public TimeSpan? GathersFor => GatherTerms?.Within;

    /// <summary>Whether the first event of a gathering is sent at once.</summary>
    public bool SendsFirstNow => GatherTerms?.FirstNow ?? false;

    /// <summary>The recipients as written.</summary>
    public IEnumerable<string> Recipients => To.Addresses.Select(a => a.Source);

    internal Recipients To { get; }
    internal IReadOnlyList<TextTemplate> Except { get; }
    internal MapPart Notification { get; }
    internal GatherTerms? GatherTerms { get; }

    /// <summary>The event that a template is filled in for.</summary>
    internal static IncomingEvent EventOf(TemplateContext context) => (IncomingEvent)context.AmbientValues[EventKey];

    /// <summary>Whether an event of one of its types meets its conditions.</summary>
    public bool Matches(IncomingEvent found)
    {
        foreach (var condition in When)
        {
            if (!condition.IsMet(found)) return false;
        }
        return true;
    }

    /// <summary>The first condition that an event does not meet, in words; null: it meets all.</summary>
    public string? WhyNot(IncomingEvent found) => When.FirstOrDefault(c => !c.IsMet(found))?.Explain(found);

    /// <summary>Makes the notifications of an event that matches.</summary>
    public RuleResult Make(IncomingEvent found, RuleSetting setting)
    {
        try
        {
            return new RuleResult(this, Drafts(found, setting), null);
        }
        catch (RuleFailure failure)
        {
            return new RuleResult(this, [], failure.Message);
        }
    }

    List<RuleDraft> Drafts(IncomingEvent found, RuleSetting setting)
    {
        var work = new TemplateWork();
        if (To.Each is null)
        {
            return Draft(found, setting, work, null, null) is { } one ? [one] : [];
        }
        var drafts = new List<RuleDraft>();
        var seen = new HashSet<string>();
        foreach (var item in ListAt(found, To.Each, MaxDrafts))
        {
            if (Draft(found, setting, work, item, null, seen) is { } draft) drafts.Add(draft);
        }
        return drafts;
    }

    static IEnumerable<JsonElement> ListAt(IncomingEvent found, DataPointer pointer, int most)
    {
        if (found.At(pointer.Steps) is not { } list || list.ValueKind == JsonValueKind.Null)
        {
            throw new RuleFailure($"to: {pointer.Text} is missing; the event needs a list there");
        }
        if (list.ValueKind != JsonValueKind.Array) throw new RuleFailure($"to: {pointer.Text} is not a list");
        if (list.GetArrayLength() > most)
        {
            throw new RuleFailure($"to: {pointer.Text} has {list.GetArrayLength()} items; the limit is {most}");
        }
        return list.EnumerateArray();
    }

    RuleDraft? Draft(IncomingEvent found, RuleSetting setting, TemplateWork work, JsonElement? item, int? count,
        HashSet<string>? seen = null)
    {
        var context = Context(found, setting, work, item, count);
        var except = Exceptions(context);
        List<string> to;
        if (To.All is { } all)
        {
            to = [];
            foreach (var one in ListAt(found, all, Notifications.Draft.MaxPersons))
            {
                var address = Filled("to", To.Addresses[0], Context(found, setting, work, one, count));
                if (!to.Contains(address)) to.Add(address);
            }
        }
        else to = [.. To.Addresses.Select(a => Filled("to", a, context)).Distinct()];
        to.RemoveAll(except.Contains);
        if (to.Count == 0 || (seen is not null && !seen.Add(string.Join('\n', to)))) return null;
        var body = Body(found, context, to, except, count > 1 ? GatherTerms?.Title : null);
        try
        {
            using var document = JsonDocument.Parse(body);
            var draft = NotificationReader.Read(document.RootElement, setting.TermsOf, out bool isStored);
            return new RuleDraft(draft, GatherTerms is null ? body : WithTerms(body, setting.TermsOf(draft.Traits.Type)), isStored)
            {
                ForCount = GatherTerms is null ? null : n => Draft(found, setting, new TemplateWork(), item, n)!,
            };
        }
        catch (ProblemException refused)
        {
            throw new RuleFailure(string.Join("; ", refused.Problem.Errors.Select(e => $"{e.Field}: {e.Detail}")));
        }
    }

    /// <summary>A gathering is read again when it closes, without the catalogue: it has to say what that adds.</summary>
    static byte[] WithTerms(byte[] body, TypeTerms terms)
    {
        var json = JsonNode.Parse(body)!.AsObject();
        if (terms.IsAlways) json["always"] = true;
        if (terms.Urgency is { } urgency && json["urgency"] is null) json["urgency"] = urgency;
        if (terms.Carry == Carry.Reference || (terms.Carry == Carry.Summary && (string?)json["carry"] is null or "full"))
        {
            json["carry"] = terms.Carry == Carry.Summary ? "summary" : "reference";
        }
        return Encoding.UTF8.GetBytes(json.ToJsonString(Relaxed));
    }

    static readonly JsonSerializerOptions Relaxed = new() { Encoder = JsonText.WriterOptions.Encoder };

    TemplateContext Context(IncomingEvent found, RuleSetting setting, TemplateWork work, JsonElement? item, int? count)
    {
        var context = new TemplateContext(TemplateNames.Of(found, item, count), RuleTemplates.OptionsIn(setting.Zone), true);
        context.Now = () => setting.Arrival;
        context.AmbientValues[EventKey] = found;
        work.AddTo(context);
        return context;
    }

    /// <summary>The exceptions. One whose value is missing is left out: there is nobody to except.</summary>
    List<string> Exceptions(TemplateContext context)
    {
        var except = new List<string>();
        foreach (var template in Except)
        {
            try
            {
                var address = template.Render(context);
                if (!except.Contains(address)) except.Add(address);
            }
            catch (TemplateFault fault) when (fault.IsMissing)
            {
            }
            catch (TemplateFault fault)
            {
                throw new RuleFailure($"except: {fault.Message}");
            }
        }
        return except;
    }

    static string Filled(string field, TextTemplate template, TemplateContext context)
    {
        try
        {
            return template.Render(context);
        }
        catch (TemplateFault fault)
        {
            throw new RuleFailure($"{field}: {fault.Message}");
        }
    }

    byte[] Body(IncomingEvent found, TemplateContext context, List<string> to, List<string> except, TextPart? title)
    {
        var buffer = new ArrayBufferWriter<byte>(512);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions))
        {
            json.WriteStartObject();
            WriteAddresses(json, "to", to);
            if (except.Count > 0) WriteAddresses(json, "except", except);
            if (!Has("type")) json.WriteString("type", found.Type);
            if (!Has("subject") && found.Subject is { } subject) json.WriteString("subject", subject);
            foreach (var (name, part) in Notification.Members)
            {
                Write(json, context, name, name == "title" && title is not null ? title : part);
            }
            json.WriteEndObject();
        }
        return buffer.WrittenSpan.ToArray();
    }

    static void Write(Utf8JsonWriter json, TemplateContext context, string name, NotificationPart part)
    {
        json.WritePropertyName(name);
        try
        {
            part.Write(json, context);
        }
        catch (TemplateFault fault)
        {
            throw new RuleFailure($"{name}: {fault.Message}");
        }
    }

    bool Has(string member) => Notification.Members.Any(m => m.Name == member);

    static void WriteAddresses(Utf8JsonWriter json, string name, List<string> addresses)
    {
        json.WriteStartArray(name);
        foreach (var address in addresses) json.WriteStringValue(address);
        json.WriteEndArray();
    }
}
