using Rovett.Core.Rules.Templates;
using Rovett.Core.Yaml;

namespace Rovett.Core.Rules;

/// <summary>Reads data with templates in it.</summary>
static class DataParts
{
    /// <summary>The data, as it is filled in.</summary>
    /// <param name="node">As written.</param>
    /// <param name="path">Its place in the document.</param>
    /// <param name="parse">Parses a template at its place; null: it is wrong, and that was noted.</param>
    public static NotificationPart Of(RuleNode node, string path, Func<RuleNode, string, TextTemplate?> parse) => node.Kind switch
    {
        RuleNodeKind.List => new ListPart([.. node.Items.Select((item, i) => Of(item, $"{path}[{i}]", parse))]),
        RuleNodeKind.Map => new MapPart([.. node.Members.Select(m => (m.Name, Of(m.Value, $"{path}.{m.Name}", parse)))]),
        RuleNodeKind.Text when TextTemplate.Has(node.Text) && parse(node, path) is { } template => new ValuePart(template),
        _ => new LiteralPart(node),
    };
}
