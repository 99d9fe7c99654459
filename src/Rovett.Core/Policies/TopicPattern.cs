using System.Text;
using Rovett.Core.Addresses;

namespace Rovett.Core.Policies;

/// <summary>A pattern of topics: parts separated by <c>/</c>, each a text or a variable.
/// <c>berth/{berth}</c> matches <c>berth/3</c> and gives <c>berth</c> the value <c>3</c>; a last part <c>{rest...}</c>
/// takes everything that is left, one part at least.</summary>
public sealed class TopicPattern
{
    readonly string[] parts;
    readonly string?[] variables;
    readonly bool open;

    TopicPattern(string text, string[] parts, string?[] variables, bool open) =>
        (Text, this.parts, this.variables, this.open) = (text, parts, variables, open);

    /// <summary>As it was written.</summary>
    public string Text { get; }

    /// <summary>The names of its variables.</summary>
    public IEnumerable<string> Variables => variables.OfType<string>();

    /// <summary>The text every matching topic begins with up to the first <c>/</c>; null when that is a variable.</summary>
    public string? FirstPart => variables[0] is null ? parts[0] : null;

    /// <summary>Reads a pattern.</summary>
    /// <returns>Null for a valid pattern, otherwise the mistake.</returns>
    public static string? TryParse(string text, out TopicPattern? pattern)
    {
        pattern = null;
        if (text.Length > 256) return "is longer than 256 characters";
        var parts = text.Split('/');
        var variables = new string?[parts.Length];
        bool open = false;
        for (int i = 0; i < parts.Length; i++)
        {
            var part = parts[i];
            if (part.Length > 2 && part[0] == '{' && part[^1] == '}')
            {
                var name = part[1..^1];
                if (name.EndsWith("...", StringComparison.Ordinal))
                {
                    if (i < parts.Length - 1) return $"has {part} before its end; only the last part can take everything that is left";
                    open = true;
                    name = name[..^3];
                }
                if (!Templates.IsName(name))
                {
                    return $"has the variable {part}; a variable's name is letters, digits and '_', and begins with a letter";
                }
                if (variables.Contains(name)) return $"names the variable '{name}' twice; give each its own name";
                variables[i] = name;
            }
            else if (TopicNames.Check(part, out parts[i]) is { } wrong) return part.AsSpan().IndexOfAny('{', '}', '*') >= 0
                ? $"has the part '{part}'; a part is a text without braces and '*', or one variable such as {{berth}}" : wrong;
        }
        pattern = new TopicPattern(text, parts, variables, open);
        return null;
    }

    /// <summary>Matches a topic in its one form (<see cref="TopicNames.Check"/>).</summary>
    /// <returns>The values of the variables; null when it does not match.</returns>
    public IReadOnlyDictionary<string, string>? Match(string topic)
    {
        var given = topic.Split('/');
        if (open ? given.Length < parts.Length : given.Length != parts.Length) return null;
        var values = new Dictionary<string, string>();
        for (int i = 0; i < parts.Length; i++)
        {
            if (variables[i] is { } name) values[name] = open && i == parts.Length - 1 ? string.Join('/', given[i..]) : given[i];
            else if (parts[i] != given[i]) return null;
        }
        return values;
    }
}

/// <summary>Texts with variables: <c>crew-{vessel}</c>.</summary>
static class Templates
{
    public static bool IsName(string name) =>
        name.Length is > 0 and <= 40 && char.IsAsciiLetter(name[0]) && name.All(c => char.IsAsciiLetterOrDigit(c) || c == '_');

    /// <summary>The mistake in a text; null when every variable in it is known.</summary>
    public static string? Mistake(string text, IEnumerable<string> variables)
    {
        for (int at = 0; (at = text.IndexOfAny(['{', '}'], at)) >= 0;)
        {
            int end = text.IndexOf('}', at);
            if (text[at] == '}' || end < 0) return "has a brace without its other half";
            var name = text[(at + 1)..end];
            if (!variables.Contains(name)) return $"names the variable '{name}', which the topic's pattern does not have";
            at = end + 1;
        }
        return text.Length == 0 ? "is empty" : null;
    }

    /// <summary>Fills in the values. The result is compared as a whole, so a value cannot act as a pattern.</summary>
    public static string Fill(string text, IReadOnlyDictionary<string, string> values)
    {
        if (!text.Contains('{', StringComparison.Ordinal)) return text;
        var filled = new StringBuilder();
        for (int at = 0; at < text.Length;)
        {
            if (text[at] != '{')
            {
                filled.Append(text[at++]);
                continue;
            }
            int end = text.IndexOf('}', at);
            filled.Append(values[text[(at + 1)..end]]);
            at = end + 1;
        }
        return filled.ToString();
    }
}
