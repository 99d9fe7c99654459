using Fluid;
using Fluid.Ast;
using Fluid.Values;

namespace Rovett.Core.Rules.Templates;

/// <summary>An expression whose value must be there: one that is missing is a fault, not merely unlike everything.</summary>
sealed class Present(Expression inner) : Expression
{
    public override async ValueTask<FluidValue> EvaluateAsync(TemplateContext context) =>
        await inner.EvaluateAsync(context) is var value && value is MissingValue missing ? throw missing.Fault : value;

    protected override Expression Accept(AstVisitor visitor) => this;
}
