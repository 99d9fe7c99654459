using Fluid.Ast;

namespace Rovett.Core.Rules.Templates;

/// <summary>Finds what templates in rules may not use.</summary>
sealed class TemplateCheck : AstVisitor
{
    readonly HashSet<string> roots = [], loopVariables = [];

    readonly List<IReadOnlyList<string>> dataPaths = [];

    /// <summary>The places in the data that it names.</summary>
    public IReadOnlyList<IReadOnlyList<string>> DataPaths => dataPaths;

    /// <summary>The first mistake; null: none.</summary>
    public string? Mistake { get; private set; }

    /// <summary>The names at the beginning of paths, without those that loops give.</summary>
    public HashSet<string> Names => [.. roots.Except(loopVariables)];

    protected override Expression VisitFilterExpression(FilterExpression filter)
    {
        if (!TemplateFilters.Names.Contains(filter.Name))
        {
            var near = NearNames.Among(TemplateFilters.Names, filter.Name);
            Mistake ??= near.Count > 0 ? $"uses an unknown filter '{filter.Name}'; did you mean '{near[0]}'?"
                : $"uses an unknown filter '{filter.Name}'; the filters are {string.Join(", ", TemplateFilters.Names)}";
        }
        return base.VisitFilterExpression(filter);
    }

    protected override Expression VisitRangeExpression(RangeExpression range)
    {
        Mistake ??= "uses a range (1..n), which rules do not allow; loop over a list of the event's data";
        return base.VisitRangeExpression(range);
    }

    protected override Expression VisitMemberExpression(MemberExpression member)
    {
        if (member.Segments[0] is IdentifierSegment root)
        {
            roots.Add(root.Identifier);
            if (root.Identifier == "data")
            {
                dataPaths.Add([.. member.Segments.Skip(1).TakeWhile(s => s is IdentifierSegment)
                    .Select(s => ((IdentifierSegment)s).Identifier)]);
            }
        }
        return base.VisitMemberExpression(member);
    }

    protected override Statement VisitForStatement(ForStatement loop)
    {
        loopVariables.Add(loop.Identifier);
        return base.VisitForStatement(loop);
    }
}
