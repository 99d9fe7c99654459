using System.Text.RegularExpressions;
using Rovett.Core.Yaml;
using Rovett.Service.Intakes.Kafka;
using Rovett.Service.Intakes.Lines;
using Rovett.Service.Intakes.Outbox;
using Rovett.Service.Intakes.RabbitMq;
using Rovett.Service.Intakes.Redis;
using Rovett.Service.Intakes.Schedules;

namespace Rovett.Service.Intakes.Reading;

/// <summary>Reads the file of intakes, and finds every mistake in it with its line and column.</summary>
public static partial class IntakeFile
{
    const int MaxIntakes = 200;

    static readonly Dictionary<string, Func<IntakeFields, IIntakeKind?>> Kinds = new()
    {
        ["outbox"] = OutboxKind.Read,
        ["rabbitmq"] = RabbitMqKind.Read,
        ["kafka"] = KafkaKind.Read,
        ["redis"] = RedisKind.Read,
        ["tcp"] = TcpKind.Read,
        ["unix"] = UnixKind.Read,
        ["udp"] = UdpKind.Read,
        ["stdin"] = StdinKind.Read,
        ["schedule"] = ScheduleKind.Read,
    };

    /// <summary>The words for the kinds.</summary>
    public static IEnumerable<string> Words => Kinds.Keys;

    /// <summary>Reads a file.</summary>
    /// <param name="bytes">YAML 1.2, UTF-8.</param>
    /// <param name="mistakes">Receives the mistakes; the result is then meaningless.</param>
    public static IReadOnlyList<IntakeSettings> Read(ReadOnlySpan<byte> bytes, List<RuleMistake> mistakes)
    {
        var found = new List<IntakeSettings>();
        if (RuleYaml.Read(bytes, mistakes) is not { } root) return found;
        if (root["intakes"] is not { Kind: RuleNodeKind.List } list)
        {
            mistakes.Add(RuleMistake.At(root["intakes"] ?? root, "intakes", "is missing; the file is 'intakes:' and a list"));
            return found;
        }
        var file = new IntakeFields(root, "(file)", mistakes);
        file.Node("intakes");
        file.Close();
        if (list.Items.Count > MaxIntakes)
        {
            mistakes.Add(RuleMistake.At(list, "intakes", $"has {list.Items.Count}; the limit is {MaxIntakes}"));
        }
        var names = new HashSet<(string, string)>();
        for (int i = 0; i < list.Items.Count; i++)
        {
            if (Intake(list.Items[i], $"intakes[{i}]", names, mistakes) is { } intake) found.Add(intake);
        }
        if (found.Count(f => f.Kind is StdinKind) > 1)
        {
            mistakes.Add(RuleMistake.At(list, "intakes", "has 'stdin' more than once; there is one"));
        }
        mistakes.Sort((a, b) => (a.Line, a.Column).CompareTo((b.Line, b.Column)));
        return found;
    }

    /// <summary>Reads a file by its path.</summary>
    /// <returns>The intakes, and what is wrong: with the place, and the fix.</returns>
    public static (IReadOnlyList<IntakeSettings> Intakes, IReadOnlyList<string> Mistakes) Load(string path)
    {
        try
        {
            var mistakes = new List<RuleMistake>();
            var found = Read(File.ReadAllBytes(path), mistakes);
            return (found, [.. mistakes.Select(m => $"{path}:{m.Line}:{m.Column}: {m.Field} {m.Detail}")]);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return ([], [$"{path}: can't be read: {error.Message}"]);
        }
    }

    static IntakeSettings? Intake(RuleNode node, string path, HashSet<(string, string)> names, List<RuleMistake> mistakes)
    {
        int before = mistakes.Count;
        if (node.Kind != RuleNodeKind.Map)
        {
            mistakes.Add(RuleMistake.At(node, path, $"must be a mapping with a name and one of {string.Join(", ", Words)}"));
            return null;
        }
        var fields = new IntakeFields(node, path, mistakes);
        var (space, name) = (fields.Text("space", "main"), fields.Text("name"));
        if (name.Length > 0 && !Names().IsMatch(name)) fields.Wrong("name", "must be of a-z, 0-9 and -, at most 64");
        else if (name.Length > 0 && !names.Add((space, name))) fields.Wrong("name", $"is used by another intake: '{name}'");
        var (types, sources) = (fields.Patterns("types"), fields.Patterns("sources"));
        int batch = fields.Whole("batch", 1, 1000, 500);
        var words = Kinds.Keys.Where(fields.Has).ToList();
        IIntakeKind? kind = null;
        if (words.Count != 1)
        {
            fields.Wrong(null, words.Count == 0 ? $"does not say where events come from: one of {string.Join(", ", Words)}"
                : $"has {string.Join(" and ", words)}; an intake has one of them");
        }
        foreach (var word in Kinds.Keys)
        {
            if (!fields.Has(word))
            {
                fields.Node(word);
                continue;
            }
            if (fields.Map(word) is not { } map) continue;
            kind = Kinds[word](map);
            map.Close();
        }
        fields.Close();
        return mistakes.Count > before || kind is null ? null
            : new IntakeSettings(space, name, kind) { Types = types, Sources = sources, Batch = batch };
    }

    [GeneratedRegex("^[a-z0-9][a-z0-9-]{0,63}$")]
    private static partial Regex Names();
}
