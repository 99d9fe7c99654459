using System.Text.Encodings.Web;
using Fluid;
using Fluid.Ast;
using Fluid.Values;

namespace Rovett.Core.Rules.Templates;

/// <summary>A <c>{{ … }}</c> that writes its value as its place needs it.</summary>
sealed class PlacedOutput(Expression expression, TextPlace place) : Statement
{
    public Expression Expression => expression;

    public override async ValueTask<Completion> WriteToAsync(TextWriter output, TextEncoder encoder, TemplateContext context)
    {
        var value = await expression.EvaluateAsync(context);
        output.Write(Placed(TextOf(value), place));
        TemplateWork.Of(context).Charge();
        return Completion.Normal;
    }

    protected override Statement Accept(AstVisitor visitor) => this;

    static string TextOf(FluidValue value)
    {
        if (value is MissingValue missing) throw missing.Fault;
        if (value.IsNil()) throw new TemplateFault("a filter returns nothing; check its input", isMissing: true);
        if (value is ArrayValue) throw new TemplateFault("a list cannot be printed; use a loop or the filter 'join'");
        return value.ToStringValue();
    }

    static string Placed(string text, TextPlace place)
    {
        if (place == TextPlace.Text) return text;
        if (text.Length == 0) throw new TemplateFault($"a value in {Name(place)} is empty");
        if (text is "." or "..") throw new TemplateFault($"a value in {Name(place)} is '{text}', which would lead elsewhere");
        if (place == TextPlace.Link) return Uri.EscapeDataString(text);
        return text.Contains('/') ? throw new TemplateFault("a value in an address contains '/'") : text;
    }

    static string Name(TextPlace place) => place == TextPlace.Link ? "the link" : "the address";
}
