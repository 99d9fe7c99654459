using System.Globalization;
using Rovett.Core.Rules;
using Rovett.Core.Yaml;

namespace Rovett.Service.Intakes;

/// <summary>The settings of an intake as they are written, with everything wrong in them.</summary>
/// <param name="node">A mapping.</param>
/// <param name="path">Its place in the file.</param>
/// <param name="mistakes">Receives the mistakes.</param>
public sealed class IntakeFields(RuleNode node, string path, List<RuleMistake> mistakes)
{
    readonly HashSet<string> known = [];

    /// <summary>Whether a field is there.</summary>
    public bool Has(string name) => node[name] is not null;

    /// <summary>The mistakes so far.</summary>
    public int Mistakes => mistakes.Count;

    /// <summary>Adds a mistake in a field, or in the mapping itself.</summary>
    public void Wrong(string? field, string detail) =>
        mistakes.Add(RuleMistake.At(field is not null && node[field] is { } at ? at : node, field is null ? path : $"{path}.{field}",
            detail));

    RuleNode? Find(string name)
    {
        known.Add(name);
        return node[name] is { Kind: not RuleNodeKind.Null } found ? found : null;
    }

    /// <summary>A text.</summary>
    public string Text(string name, string? missing = null)
    {
        if (Find(name) is not { } found)
        {
            if (missing is null) Wrong(null, $"needs '{name}'");
            return missing ?? "";
        }
        if (found.Kind is RuleNodeKind.List or RuleNodeKind.Map || found.Text.Trim().Length == 0) Wrong(name, "must be a text");
        else if (found.Text.Any(char.IsControl)) Wrong(name, "contains a control character or line break; leave it out");
        return found.Text.Trim();
    }

    /// <summary>A text that may be left out.</summary>
    public string? TextOrNone(string name) => Has(name) ? Text(name) : Find(name)?.Text;

    /// <summary>A text in quotes of its own, with everything that is in it.</summary>
    public RuleNode? Node(string name) => Find(name);

    /// <summary>A whole number.</summary>
    public int Whole(string name, int least, int most, int missing)
    {
        if (Find(name) is not { } found) return missing;
        if (int.TryParse(found.Text, NumberStyles.None, CultureInfo.InvariantCulture, out int number) && number >= least && number <= most)
        {
            return number;
        }
        Wrong(name, $"must be a whole number from {least} to {most}");
        return missing;
    }

    /// <summary>A span of time.</summary>
    public TimeSpan Span(string name, TimeSpan least, TimeSpan most, TimeSpan missing)
    {
        if (Find(name) is not { } found) return missing;
        if (Durations.Read(found.Text) is { } span && span >= least && span <= most) return span;
        Wrong(name, $"must be a duration from {Durations.Write(least)} to {Durations.Write(most)}, such as {Durations.Write(missing)}");
        return missing;
    }

    /// <summary>True or false.</summary>
    public bool Flag(string name, bool missing = false)
    {
        if (Find(name) is not { } found) return missing;
        if (found.Kind != RuleNodeKind.Flag) Wrong(name, "must be true or false");
        return found.Kind == RuleNodeKind.Flag ? found.Flag : missing;
    }

    /// <summary>One of some words.</summary>
    public string OneOf(string name, string missing, params string[] words)
    {
        if (Find(name) is not { } found) return missing;
        if (words.Contains(found.Text)) return found.Text;
        Wrong(name, $"must be {string.Join(" or ", words)}");
        return missing;
    }

    /// <summary>A list of texts; one alone needs no list.</summary>
    public IReadOnlyList<string> Texts(string name, bool isNeeded = false)
    {
        if (Find(name) is not { } found)
        {
            if (isNeeded) Wrong(null, $"needs '{name}'");
            return [];
        }
        var items = found.Kind == RuleNodeKind.List ? found.Items : [found];
        if (items.Any(i => i.Kind is RuleNodeKind.List or RuleNodeKind.Map or RuleNodeKind.Null || i.Text.Trim().Length == 0)
            || (isNeeded && items.Count == 0))
        {
            Wrong(name, "must be a list of texts");
            return [];
        }
        return [.. items.Select(i => i.Text)];
    }

    /// <summary>Servers, each a host and a port.</summary>
    /// <param name="name">The field.</param>
    /// <param name="example">One, for the message.</param>
    public IReadOnlyList<string> Servers(string name, string example)
    {
        var servers = Texts(name, isNeeded: true);
        foreach (var server in servers)
        {
            if (server.Split(':') is [{ Length: > 0 }, var port] && ushort.TryParse(port, out _)) continue;
            Wrong(name, $"'{server}' must be a host and a port, such as {example}");
        }
        return servers;
    }

    /// <summary>Patterns: exact, or ending in <c>*</c>.</summary>
    public IReadOnlyList<string> Patterns(string name)
    {
        var found = Texts(name);
        foreach (var pattern in found)
        {
            if (pattern.AsSpan(0, pattern.Length - 1).Contains('*')) Wrong(name, $"'{pattern}' can have '*' only at its end, for the rest");
        }
        return found;
    }

    /// <summary>Where a secret is kept; it never stands in the file itself.</summary>
    public Secret? Secret(string name)
    {
        if (Find(name) is not { } found) return null;
        if (found is { Kind: RuleNodeKind.Map, Members.Count: 1 } && found.Members[0] is { Name: "file" or "env" } place
            && place.Value.Kind == RuleNodeKind.Text && place.Value.Text.Length > 0)
        {
            return new Secret(place.Value.Text, place.Name == "file");
        }
        Wrong(name, "must say where the secret is: { file: /run/secrets/name } or { env: NAME }; a secret does not stand in this file");
        return null;
    }

    /// <summary>A time zone by its IANA name.</summary>
    public TimeZoneInfo? Zone(string name)
    {
        if (Find(name) is not { } found) return null;
        if (TimeZones.TryFind(found.Text, out var zone)) return zone;
        Wrong(name, $"'{found.Text}' {TimeZones.Rule}");
        return null;
    }

    /// <summary>How events are made, or null when that is not said or wrong.</summary>
    public EventShape? Shape(string name, IReadOnlyCollection<string> fields, bool hasData) =>
        Find(name) is { } found ? EventShape.Read(found, $"{path}.{name}", fields, hasData, mistakes) : null;

    /// <summary>A mapping within this one; null: it is not there, or none.</summary>
    public IntakeFields? Map(string name)
    {
        if (Find(name) is not { } found) return null;
        if (found.Kind == RuleNodeKind.Map) return new IntakeFields(found, $"{path}.{name}", mistakes);
        Wrong(name, $"must be a mapping, not {found.KindName}");
        return null;
    }

    /// <summary>Everything else that is written here is a mistake.</summary>
    public void Close()
    {
        foreach (var member in node.Members)
        {
            if (known.Contains(member.Name)) continue;
            var near = NearNames.Among([.. known], member.Name);
            mistakes.Add(RuleMistake.At(member, $"{path}.{member.Name}", near.Count > 0 ? $"is unknown; did you mean '{near[0]}'?"
                : $"is unknown; the fields here are {string.Join(", ", known)}"));
        }
    }
}
