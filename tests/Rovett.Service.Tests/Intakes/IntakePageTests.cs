using System.Text;
using System.Text.RegularExpressions;
using Rovett.Core.Yaml;
using Rovett.Service.Intakes.Reading;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests.Intakes;

/// <summary>docs/intakes.md: its files of intakes are sound, and every kind has one.</summary>
public sealed partial class IntakePageTests
{
    [Fact]
    public void Every_file_on_the_page_is_sound_and_every_kind_has_one()
    {
        var page = File.ReadAllText(Path.Combine(ServiceProcess.Root, "docs", "intakes.md"));
        var kinds = new HashSet<string>();
        foreach (Match block in Blocks().Matches(page))
        {
            var file = block.Groups[1].Value.Replace("outbox: { … }", "outbox: { host: h, database: d, user: u }");
            var mistakes = new List<RuleMistake>();
            var found = IntakeFile.Read(Encoding.UTF8.GetBytes(file), mistakes);
            mistakes.Select(m => $"{m.Line}: {m.Field} {m.Detail}").ShouldBeEmpty(file);
            kinds.UnionWith(found.Select(f => f.Kind.Word));
        }
        foreach (Match line in Lines().Matches(page))
        {
            var mistakes = new List<RuleMistake>();
            var found = IntakeFile.Read(Encoding.UTF8.GetBytes($"intakes: [{{ name: a, {line.Groups[1].Value} }}]"), mistakes);
            mistakes.Select(m => $"{m.Line}: {m.Field} {m.Detail}").ShouldBeEmpty(line.Value);
            kinds.UnionWith(found.Select(f => f.Kind.Word));
        }
        kinds.ShouldBe(IntakeFile.Words, ignoreOrder: true);
    }

    [GeneratedRegex("```yaml\n(intakes:.*?)```", RegexOptions.Singleline)]
    private static partial Regex Blocks();

    [GeneratedRegex(@"^\| `((?:tcp|unix|udp|stdin): \{.*?\})` \|", RegexOptions.Multiline)]
    private static partial Regex Lines();
}
