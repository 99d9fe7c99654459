using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;

namespace Rovett.Core.Yaml;

/// <summary>Reads YAML 1.2 with its core schema (JSON is part of it) into nodes that know their place. Aliases, anchors, tags and
/// duplicate names are refused.</summary>
public static partial class RuleYaml
{
    /// <summary>The largest file, in bytes.</summary>
    public const int MaxBytes = 1 << 20;

    /// <summary>How deep values may be nested.</summary>
    public const int MaxDepth = 32;

    /// <summary>Reads a document.</summary>
    /// <param name="bytes">UTF-8.</param>
    /// <param name="mistakes">Receives mistakes; a syntax error is the last.</param>
    /// <returns>The document; null when it cannot be read.</returns>
    public static RuleNode? Read(ReadOnlySpan<byte> bytes, List<RuleMistake> mistakes)
    {
        if (bytes.Length > MaxBytes)
        {
            mistakes.Add(new RuleMistake(1, 1, "(file)", $"is {bytes.Length} bytes long; the limit is {MaxBytes}"));
            return null;
        }
        if (bytes.StartsWith("\uFEFF"u8)) bytes = bytes[3..];
        if (!System.Text.Unicode.Utf8.IsValid(bytes))
        {
            mistakes.Add(new RuleMistake(1, 1, "(file)", "contains bytes that are not UTF-8; save it as UTF-8"));
            return null;
        }
        try
        {
            return new Reader(Encoding.UTF8.GetString(bytes), mistakes).Document();
        }
        catch (YamlException error)
        {
            mistakes.Add(new RuleMistake((int)error.Start.Line, (int)error.Start.Column, "(file)",
                $"is not YAML: {Plain(error.Message)}"));
            return null;
        }
        catch (Stop stop)
        {
            mistakes.Add(stop.Mistake);
            return null;
        }
    }

    static string Plain(string message)
    {
        message = Places().Replace(message, "").Trim();
        return message.Length == 0 ? "it cannot be parsed" : char.ToLowerInvariant(message[0]) + message[1..].TrimEnd('.');
    }

    [GeneratedRegex(@"\(Lin?e: \d+, Col: \d+, Idx: \d+\)( - )?:?")]
    private static partial Regex Places();

    sealed class Stop(RuleMistake mistake) : Exception(mistake.Detail)
    {
        public RuleMistake Mistake => mistake;
    }

    sealed class Reader(string text, List<RuleMistake> mistakes)
    {
        readonly Parser parser = new(new Scanner(new StringReader(text), skipComments: true));

        public RuleNode? Document()
        {
            Next();
            if (Next() is StreamEnd)
            {
                mistakes.Add(new RuleMistake(1, 1, "(file)", "is empty; it needs 'rules:'"));
                return null;
            }
            var root = Value(Next(), 0);
            Next();
            if (Next() is DocumentStart second)
            {
                throw Wrong(second, "starts a second document; put everything into one");
            }
            return root;
        }

        ParsingEvent Next()
        {
            try
            {
                if (parser.MoveNext()) return parser.Current!;
            }
            catch (Exception error) when (error is not YamlException)
            {
                // Some broken files make the scanner itself fail.
                var at = parser.Current?.End ?? Mark.Empty;
                throw new YamlException(at, at, "it cannot be parsed", error);
            }
            throw new YamlException("the file ends too early");
        }

        static Stop Wrong(ParsingEvent at, string detail) =>
            new(new RuleMistake((int)at.Start.Line, (int)at.Start.Column, "(file)", detail));

        RuleNode Value(ParsingEvent found, int depth)
        {
            if (depth > MaxDepth) throw Wrong(found, $"is nested deeper than {MaxDepth}");
            if (found is AnchorAlias) throw Wrong(found, "is an alias ('*name'), which rules do not allow; write the value itself");
            if (found is NodeEvent node)
            {
                if (!node.Anchor.IsEmpty)
                {
                    throw Wrong(found, "has an anchor ('&name'), which rules do not allow; write values where they are needed");
                }
                if (!node.Tag.IsEmpty && !(node is Scalar && node.Tag.IsNonSpecific))
                {
                    throw Wrong(found, $"has the tag '{node.Tag.Value}', which rules do not allow; leave it out");
                }
            }
            switch (found)
            {
                case Scalar scalar:
                    return new RuleNode(scalar.Style == ScalarStyle.Plain ? KindOf(scalar.Value) : RuleNodeKind.Text,
                        (int)scalar.Start.Line, (int)scalar.Start.Column)
                    { Text = scalar.Value };
                case SequenceStart start:
                    var items = new List<RuleNode>();
                    while (Next() is var item && item is not SequenceEnd) items.Add(Value(item, depth + 1));
                    return new RuleNode(RuleNodeKind.List, (int)start.Start.Line, (int)start.Start.Column) { Items = items };
                case MappingStart start:
                    return new RuleNode(RuleNodeKind.Map, (int)start.Start.Line, (int)start.Start.Column) { Members = Members(depth) };
                default:
                    throw Wrong(found, "is not expected here");
            }
        }

        List<RuleMember> Members(int depth)
        {
            var members = new List<RuleMember>();
            var known = new HashSet<string>();
            while (Next() is var name && name is not MappingEnd)
            {
                if (name is MappingStart { Style: MappingStyle.Flow })
                {
                    throw Wrong(name, "is a template without quotes; write \"{{ … }}\" in quotes, because YAML reads braces itself");
                }
                if (name is not Scalar key) throw Wrong(name, "is not a name; names of members are texts");
                if (!known.Add(key.Value))
                {
                    mistakes.Add(new RuleMistake((int)key.Start.Line, (int)key.Start.Column, key.Value,
                        "is there twice; keep one of the two"));
                }
                members.Add(new RuleMember(key.Value, (int)key.Start.Line, (int)key.Start.Column, Value(Next(), depth + 1)));
            }
            return members;
        }
    }

    static RuleNodeKind KindOf(string plain) => plain switch
    {
        "" or "~" or "null" or "Null" or "NULL" => RuleNodeKind.Null,
        "true" or "True" or "TRUE" or "false" or "False" or "FALSE" => RuleNodeKind.Flag,
        _ => Numbers().IsMatch(plain) && decimal.TryParse(plain, NumberStyles.Float, CultureInfo.InvariantCulture, out _)
            ? RuleNodeKind.Number
            : RuleNodeKind.Text,
    };

    [GeneratedRegex(@"^[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?$")]
    private static partial Regex Numbers();
}
