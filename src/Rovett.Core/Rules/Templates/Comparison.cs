using Fluid;
using Fluid.Ast;
using Fluid.Values;

namespace Rovett.Core.Rules.Templates;

/// <summary><c>&gt;</c>, <c>&gt;=</c>, <c>&lt;</c> or <c>&lt;=</c>: of two numbers, or of two texts. Anything else, and what is
/// missing, is neither more nor less.</summary>
sealed class Comparison(Expression left, Expression right, bool isGreater, bool isStrict) : Expression
{
    public override async ValueTask<FluidValue> EvaluateAsync(TemplateContext context)
    {
        var order = Order(await left.EvaluateAsync(context), await right.EvaluateAsync(context));
        if (!isGreater) order = -order;
        return BooleanValue.Create(isStrict ? order > 0 : order >= 0);
    }

    static int? Order(FluidValue left, FluidValue right) => (left.Type, right.Type) switch
    {
        (FluidValues.Number, FluidValues.Number) => left.ToNumberValue().CompareTo(right.ToNumberValue()),
        (FluidValues.String, FluidValues.String) => string.CompareOrdinal(left.ToStringValue(), right.ToStringValue()),
        _ => null,
    };

    protected override Expression Accept(AstVisitor visitor) => this;
}
