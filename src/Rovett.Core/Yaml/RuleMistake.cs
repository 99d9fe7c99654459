
namespace Rovett.Core.Yaml;

/// <summary>A mistake in a rules file.</summary>
/// <param name="Line">Its line, from 1.</param>
/// <param name="Column">Its column, from 1.</param>
/// <param name="Field">The place within the document: <c>rules[2].when.data:/hours</c>.</param>
/// <param name="Detail">The mistake, with the fix.</param>
public sealed record RuleMistake(int Line, int Column, string Field, string Detail)
{
    /// <summary>A mistake at a node.</summary>
    public static RuleMistake At(RuleNode node, string field, string detail) => new(node.Line, node.Column, field, detail);

    /// <summary>A mistake at a member's name.</summary>
    public static RuleMistake At(RuleMember member, string field, string detail) => new(member.Line, member.Column, field, detail);

    /// <summary>As a field error of a problem.</summary>
    public FieldError ToFieldError() => new(Field, $"line {Line}, column {Column}: {Detail}");
}
