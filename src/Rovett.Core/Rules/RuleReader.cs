using System.Buffers;
using System.Globalization;
using System.Text.Json;
using System.Text.RegularExpressions;
using Rovett.Core.Catalogues;
using Rovett.Core.Events;
using Rovett.Core.Notifications;
using Rovett.Core.Rules.Templates;
using Rovett.Core.Schemas;
using Rovett.Core.Yaml;

namespace Rovett.Core.Rules;

/// <summary>Reads a rules file, and finds every mistake in it with its line and column.</summary>
public sealed partial class RuleReader
{
    /// <summary>The most rules of a space.</summary>
    public const int MaxRules = 1000;
    internal const int MaxTitle = 256, MaxBody = 4096;
    const int MaxName = 128, MaxTests = 1000, MaxConditions = 32, MaxAlternatives = 100, MaxEvents = 32;
    static readonly TimeSpan LongestGathering = TimeSpan.FromDays(7);
    static readonly string[] FileFields = ["types", "events", "rules", "tests"];
    static readonly string[] RuleFields = ["name", "event", "when", "to", "except", "gather", "notification"];

    readonly List<RuleMistake> mistakes;
    readonly List<OutboundUse> outbound = [];

    Catalogue catalogue;

    RuleReader(List<RuleMistake> mistakes, Catalogue known) => (this.mistakes, catalogue) = (mistakes, known);

    /// <summary>Reads a file.</summary>
    /// <param name="bytes">YAML 1.2 or JSON, UTF-8.</param>
    /// <param name="mistakes">Receives the mistakes; the result is then meaningless.</param>
    /// <param name="known">The catalogue to check against if the file has none; null: there is none.</param>
    /// <param name="prefersKnown">True: check against <paramref name="known"/> even if the file has a catalogue of its own.</param>
    public static RuleSet Read(ReadOnlySpan<byte> bytes, List<RuleMistake> mistakes, Catalogue? known = null, bool prefersKnown = false)
    {
        if (RuleYaml.Read(bytes, mistakes) is not { } root) return RuleSet.None;
        var set = new RuleReader(mistakes, known ?? Catalogue.None).File(root, prefersKnown);
        mistakes.Sort((a, b) => (a.Line, a.Column).CompareTo((b.Line, b.Column)));
        return set;
    }

    /// <summary>Rules that no test beside them reaches.</summary>
    public static IReadOnlyList<string> Untested(RuleSet rules) =>
        [.. rules.All.Where(r => !rules.Tests.Any(t => rules.For(t.Given.Type).Contains(r) && r.Matches(t.Given))).Select(r => r.Name)];

    RuleSet File(RuleNode root, bool prefersKnown)
    {
        if (!IsMap(root, "(file)", FileFields)) return RuleSet.None;
        var own = CatalogueReader.OfFile(root, mistakes);
        if (own is not null && !prefersKnown) catalogue = own;
        var rules = new List<Rule>();
        var names = new HashSet<string>();
        if (root["rules"] is not { } list) Add(root, "rules", "is missing; a rules file is 'rules:' and a list");
        else if (list.Kind != RuleNodeKind.List) Add(list, "rules", $"must be a list of rules, not {list.KindName}");
        else if (list.Items.Count > MaxRules) Add(list, "rules", $"has {list.Items.Count} rules; the limit is {MaxRules}");
        else
        {
            for (int i = 0; i < list.Items.Count; i++)
            {
                if (Rule(list.Items[i], $"rules[{i}]", names) is { } rule) rules.Add(rule);
            }
        }
        return new RuleSet(rules, Tests(root["tests"])) { Outbound = outbound, Catalogue = own };
    }

    Rule? Rule(RuleNode node, string path, HashSet<string> names)
    {
        int before = mistakes.Count;
        if (!IsMap(node, path, RuleFields)) return null;
        var name = Text(node, path, "name", MaxName);
        if (name is not null && !names.Add(name)) Add(node["name"]!, path + ".name", $"is used by another rule: '{name}'");
        var events = Events(node, path);
        var when = Conditions(node["when"], path + ".when");
        var to = To(node, path);
        var except = node["except"] is { } e ? Addresses(e, path + ".except", allowNone: true) : [];
        var gather = Gather(node["gather"], path + ".gather");
        MapPart? notification = null;
        if (node["notification"] is not { } body) Add(node, path + ".notification", "is missing; it says what the rule sends");
        else notification = Notification(body, path + ".notification");
        if (mistakes.Count > before || to is null || notification is null) return null;
        CheckSample(node, path, to, except, notification, gather);
        if (gather is not null) CheckGathering(node, path, notification, gather);
        if (to.Each is null && to.All is null) CheckItem(node, path);
        CheckData(node, path, events);
        return mistakes.Count > before ? null : new Rule(name!, events, when, to, except, notification, gather);
    }

    List<EventPattern> Events(RuleNode rule, string path)
    {
        var patterns = new List<EventPattern>();
        if (rule["event"] is not { } node)
        {
            Add(rule, path + ".event", "is missing; name the type of event, such as engine.check.due");
            return patterns;
        }
        var items = node.Kind == RuleNodeKind.List ? node.Items : [node];
        if (items.Count is 0 or > MaxEvents) Add(node, path + ".event", $"must name 1 to {MaxEvents} types of event");
        foreach (var item in items)
        {
            if (item.Kind is RuleNodeKind.List or RuleNodeKind.Map or RuleNodeKind.Null || item.Text.Length is 0 or > MaxName)
            {
                Add(item, path + ".event", "must be a type of event, such as engine.check.due or engine.*");
            }
            else if (item.Text.IndexOf('*', StringComparison.Ordinal) is >= 0 and var star && star < item.Text.Length - 1)
            {
                Add(item, path + ".event", "can have '*' only at its end, where it stands for the rest");
            }
            else patterns.Add(new EventPattern(item.Text));
        }
        return patterns;
    }

    Recipients? To(RuleNode rule, string path)
    {
        if (rule["to"] is not { } node)
        {
            Add(rule, path + ".to", "is missing; name whom it is for, such as [\"role:engineer\"]");
            return null;
        }
        path += ".to";
        if (node.Kind != RuleNodeKind.Map)
        {
            return Addresses(node, path, allowNone: false) is { Count: > 0 } list ? new Recipients(list, null, null) : null;
        }
        if (!IsMap(node, path, ["each", "all", "address"])) return null;
        if (node["each"] is not null == node["all"] is not null)
        {
            Add(node, path, "needs either 'each' (a notification for each item) or 'all' (one for all items)");
            return null;
        }
        var source = node["each"] ?? node["all"]!;
        var field = path + (node["each"] is null ? ".all" : ".each");
        if (DataPointer.TryParse(source.Text, out var pointer) is { } wrong)
        {
            Add(source, field, source.Kind == RuleNodeKind.Text ? wrong : "must be a list in the data, such as data:/crew");
            return null;
        }
        if (node["address"] is not { } address)
        {
            Add(node, path + ".address", "is missing; say how an item becomes an address: \"user:{{ item.id }}\"");
            return null;
        }
        return Address(address, path + ".address") is not { } template ? null
            : new Recipients([template], node["each"] is null ? null : pointer, node["all"] is null ? null : pointer);
    }

    List<TextTemplate> Addresses(RuleNode node, string path, bool allowNone)
    {
        var items = node.Kind == RuleNodeKind.List ? node.Items : [node];
        if (items.Count == 0 && !allowNone) Add(node, path, "is empty; name whom it is for, such as [\"role:engineer\"]");
        var addresses = new List<TextTemplate>();
        for (int i = 0; i < items.Count; i++)
        {
            if (Address(items[i], node.Kind == RuleNodeKind.List ? $"{path}[{i}]" : path) is { } address) addresses.Add(address);
        }
        return addresses;
    }

    TextTemplate? Address(RuleNode node, string path)
    {
        if (node.Kind != RuleNodeKind.Text)
        {
            Add(node, path, $"must be an address such as user:mara or role:engineer, not {node.KindName}");
            return null;
        }
        if (TextTemplate.TryParse(node.Text, TextPlace.Address, out var template) is { } wrong)
        {
            Add(node, path, wrong);
            return null;
        }
        var beginning = template.Beginning;
        if (TextTemplate.Has(node.Text) && !new[]
            { "user:", "role:", "topic:" }.Any(k => beginning.StartsWith(k, StringComparison.Ordinal)))
        {
            Add(node, path, "must begin with its kind: user:, role: or topic:, and fill in only what follows");
            return null;
        }
        if (Core.Addresses.Address.TryParse(template.Sample, out _) is { } fault)
        {
            Add(node, path, fault);
            return null;
        }
        return template;
    }

    GatherTerms? Gather(RuleNode? node, string path)
    {
        if (node is null || !IsMap(node, path, ["within", "title", "first"])) return null;
        TimeSpan? within = node["within"] is { } span ? Durations.Read(span.Text) : null;
        if (within is null || within < TimeSpan.FromSeconds(1) || within > LongestGathering)
        {
            Add(node["within"] ?? node, path + ".within", "must be a duration from 1s to 7d, such as 10m");
        }
        TextPart? title = null;
        if (node["title"] is { } text)
        {
            if (IsScalar(text)) title = Filled(text, path + ".title", TextPlace.Text, MaxTitle, oneLine: true);
            else Add(text, path + ".title", "must be a text");
        }
        bool firstNow = node["first"]?.Text == "now";
        if (node["first"] is { } first && !firstNow) Add(first, path + ".first", "can only be now: the first event is sent at once");
        return new GatherTerms(within ?? default, title, firstNow);
    }

    void CheckGathering(RuleNode rule, string path, MapPart notification, GatherTerms gather)
    {
        if (rule["notification"]!["store"] is { Kind: RuleNodeKind.Flag, Flag: false })
        {
            Add(rule["gather"]!, path + ".gather", "cannot be used with 'store: false'");
        }
        if (gather.FirstNow && notification.Members.Any(m => m.Name == "slot"))
        {
            Add(rule["gather"]!["first"]!, path + ".gather.first", "cannot be used with 'slot'");
        }
    }

    /// <summary><c>item</c> exists only where there are items.</summary>
    void CheckItem(RuleNode node, string path)
    {
        if (node.Kind == RuleNodeKind.Text && TextTemplate.Has(node.Text)
            && TextTemplate.TryParse(node.Text, TextPlace.Text, out var template) is null && template.Uses("item"))
        {
            Add(node, path, "uses 'item', which exists only with 'to: { each: … }' or 'to: { all: … }'");
        }
        foreach (var item in node.Items) CheckItem(item, path);
        foreach (var member in node.Members) CheckItem(member.Value, $"{path}.{member.Name}");
    }

    /// <summary>What a rule uses of the data must be in the schema of each of its events that has one.</summary>
    void CheckData(RuleNode rule, string path, List<EventPattern> events)
    {
        var schemas = events.Where(e => !e.IsPrefix).Select(e => catalogue.FindEvent(e.Text)?.Data).OfType<DataSchema>().ToList();
        if (schemas.Count == 0) return;
        foreach (var member in rule["when"]?.Members ?? [])
        {
            if (DataPointer.Is(member.Name) && DataPointer.TryParse(member.Name, out var pointer) is null
                && Undeclared(schemas, pointer.Steps) is { } wrong)
            {
                mistakes.Add(RuleMistake.At(member, $"{path}.when.{member.Name}", wrong));
            }
        }
        CheckTexts(rule, path, schemas);
    }

    void CheckTexts(RuleNode node, string path, List<DataSchema> schemas)
    {
        if (node.Kind == RuleNodeKind.Text)
        {
            IEnumerable<IReadOnlyList<string>> used = [];
            if (DataPointer.Is(node.Text) && DataPointer.TryParse(node.Text, out var pointer) is null) used = [pointer.Steps];
            else if (TextTemplate.Has(node.Text) && TextTemplate.TryParse(node.Text, TextPlace.Text, out var template) is null)
            {
                used = template.DataPaths;
            }
            if (used.Select(u => Undeclared(schemas, u)).FirstOrDefault(w => w is not null) is { } wrong) Add(node, path, wrong);
        }
        for (int i = 0; i < node.Items.Count; i++) CheckTexts(node.Items[i], $"{path}[{i}]", schemas);
        foreach (var member in node.Members) CheckTexts(member.Value, $"{path}.{member.Name}", schemas);
    }

    static string? Undeclared(List<DataSchema> schemas, IReadOnlyList<string> path) =>
        schemas.Select(s => s.Missing(path)).FirstOrDefault(w => w is not null);

    /// <summary>Checks a notification as it could be, with the reader of notifications itself.</summary>
    void CheckSample(RuleNode rule, string path, Recipients to, List<TextTemplate> except, MapPart notification, GatherTerms? gather)
    {
        var buffer = new ArrayBufferWriter<byte>(512);
        using (var json = new Utf8JsonWriter(buffer, JsonText.WriterOptions))
        {
            json.WriteStartObject();
            WriteSamples(json, "to", to.Addresses);
            WriteSamples(json, "except", except);
            if (!notification.Members.Any(m => m.Name == "type")) json.WriteString("type", "x");
            notification.WriteSampleMembers(json);
            json.WriteEndObject();
        }
        try
        {
            using var document = JsonDocument.Parse(buffer.WrittenMemory);
            NotificationReader.Read(document.RootElement, static _ => new TypeTerms(ReceiptLevel.Totals), out _);
        }
        catch (ProblemException refused)
        {
            foreach (var error in refused.Problem.Errors)
            {
                bool ofRule = error.Field.Split('[')[0] is "to" or "except";
                var field = ofRule ? $"{path}.{error.Field}" : $"{path}.notification.{error.Field}";
                Add(Nearest(ofRule ? rule : rule["notification"]!, error.Field), field, error.Detail);
            }
        }
    }

    static void WriteSamples(Utf8JsonWriter json, string name, IReadOnlyList<TextTemplate> addresses)
    {
        json.WriteStartArray(name);
        for (int i = 0; i < addresses.Count; i++)
        {
            // Two templates can give different addresses, whatever they look like.
            json.WriteStringValue(TextTemplate.Has(addresses[i].Source)
                ? addresses[i].Sample + string.Create(CultureInfo.InvariantCulture, $"{name}{i}")
                : addresses[i].Source);
        }
        json.WriteEndArray();
    }

    static RuleNode Nearest(RuleNode node, string field)
    {
        foreach (Match step in Steps().Matches(field))
        {
            RuleNode? next = step.Groups[1].Success
                ? int.TryParse(step.Groups[1].Value, out int index) && index < node.Items.Count ? node.Items[index] : null
                : node[step.Value];
            if (next is null) return node;
            node = next;
        }
        return node;
    }

    [GeneratedRegex(@"\[(\d+)\]|[^.\[\]]+")]
    private static partial Regex Steps();

    string? Text(RuleNode map, string path, string field, int max)
    {
        if (map[field] is not { } node) Add(map, $"{path}.{field}", "is missing");
        else if (node.Kind is RuleNodeKind.List or RuleNodeKind.Map or RuleNodeKind.Null || node.Text.Trim().Length == 0)
        {
            Add(node, $"{path}.{field}", "must be a text");
        }
        else if (node.Text.Length > max) Add(node, $"{path}.{field}", $"is {node.Text.Length} characters long; the limit is {max}");
        else if (node.Text.Any(char.IsControl)) Add(node, $"{path}.{field}", "contains a control character or line break; leave it out");
        else return node.Text;
        return null;
    }

    bool IsMap(RuleNode node, string path, IReadOnlyList<string> fields)
    {
        if (node.Kind != RuleNodeKind.Map)
        {
            Add(node, path, $"must be a mapping with {string.Join(", ", fields)}, not {node.KindName}");
            return false;
        }
        foreach (var member in node.Members)
        {
            if (fields.Contains(member.Name)) continue;
            var near = NearNames.Among(fields, member.Name);
            mistakes.Add(RuleMistake.At(member, path == "(file)" ? member.Name : $"{path}.{member.Name}", near.Count > 0
                ? $"is unknown; did you mean '{near[0]}'?"
                : $"is unknown; the fields here are {string.Join(", ", fields)}"));
        }
        return true;
    }

    void Add(RuleNode node, string field, string detail) => mistakes.Add(RuleMistake.At(node, field, detail));
}
