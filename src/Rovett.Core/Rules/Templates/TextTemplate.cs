using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using Fluid;
using Fluid.Ast;
using Fluid.Ast.BinaryExpressions;
using Fluid.Parser;

namespace Rovett.Core.Rules.Templates;

/// <summary>A text with Liquid templates in it.</summary>
sealed partial class TextTemplate
{
    static readonly FluidParser Parser = LimitedParser();

    readonly FluidTemplate parsed = new();
    readonly HashSet<string> names = [];

    TextTemplate(string source, TextPlace place, out string? mistake)
    {
        Source = source;
        mistake = null;
        if (source.Length > TemplateWork.MaxOutput)
        {
            mistake = $"is longer than {TemplateWork.MaxOutput} characters";
            return;
        }
        try
        {
            if (!Parser.TryParse(source, out var found, out var error))
            {
                mistake = $"is not a valid template: {Plain(error)}";
                return;
            }
            var check = new TemplateCheck();
            check.VisitTemplate(found);
            mistake = check.Mistake;
            names = check.Names;
            DataPaths = check.DataPaths;
            parsed = (FluidTemplate)new OutputPlacer(place).VisitTemplate(found);
        }
        catch (Exception error) when (error is FluidException or FormatException or OverflowException
            or InsufficientExecutionStackException)
        {
            mistake = $"is not a valid template: {Plain(error.Message)}";
        }
    }

    /// <summary>As written.</summary>
    public string Source { get; }

    /// <summary>The places in the event's data that it names.</summary>
    public IReadOnlyList<IReadOnlyList<string>> DataPaths { get; } = [];

    /// <summary>Whether a text has anything to fill in.</summary>
    public static bool Has(string text) => text.Contains("{{", StringComparison.Ordinal) || text.Contains("{%", StringComparison.Ordinal);

    /// <summary>Parses a template.</summary>
    /// <returns>Null when it is valid, otherwise the mistake; only its source and sample are usable then.</returns>
    public static string? TryParse(string source, TextPlace place, out TextTemplate template)
    {
        template = new TextTemplate(source, place, out var mistake);
        return mistake;
    }

    /// <summary>The text up to the first value that is filled in.</summary>
    public string Beginning => Source[..Math.Min(IndexOf("{{"), IndexOf("{%"))];

    int IndexOf(string what) => Source.IndexOf(what, StringComparison.Ordinal) is >= 0 and var at ? at : Source.Length;

    /// <summary>The text as it could become: each value <c>x</c>.</summary>
    public string Sample => Outputs().Replace(Tags().Replace(Source, ""), "x");

    [GeneratedRegex(@"\{\{.*?\}\}", RegexOptions.Singleline)]
    private static partial Regex Outputs();

    [GeneratedRegex(@"\{%.*?%\}", RegexOptions.Singleline)]
    private static partial Regex Tags();

    /// <summary>The names that it uses, without those of its loops.</summary>
    public IReadOnlySet<string> Names => names;

    /// <summary>Whether it uses a name that is not a loop's.</summary>
    public bool Uses(string name) => names.Contains(name);

    /// <summary>Whether it is one <c>{{ … }}</c> and nothing else, so that the value keeps its JSON type.</summary>
    public bool IsOneValue => parsed.Statements is [PlacedOutput];

    /// <summary>The finished text.</summary>
    /// <exception cref="TemplateFault">The event does not have what it needs, or it goes beyond its bounds.</exception>
    public string Render(TemplateContext context)
    {
        var output = new BoundedWriter();
        try
        {
            parsed.RenderAsync(output, NullEncoder.Default, context).AsTask().GetAwaiter().GetResult(); // no value is waited for
        }
        catch (InvalidOperationException error) when (error.Message.StartsWith("The maximum", StringComparison.Ordinal))
        {
            throw new TemplateFault("the template takes too many steps; loop over less");
        }
        return output.ToString();
    }

    /// <summary>Writes the value of a template that is one value, as JSON.</summary>
    public void WriteValue(Utf8JsonWriter json, TemplateContext context)
    {
        var expression = ((PlacedOutput)parsed.Statements[0]).Expression;
        var value = expression.EvaluateAsync(context).GetAwaiter().GetResult();
        TemplateWork.Of(context).Charge();
        if (value is MissingValue missing) throw missing.Fault;
        if (value.IsNil()) throw new TemplateFault("a filter returns nothing; check its input", isMissing: true);
        EventValues.Write(json, value);
    }

    /// <summary>The first line of a message of the parser, without its place within the text.</summary>
    static string Plain(string message)
    {
        var line = Place().Replace(message.Split('\n')[0], "").Trim().TrimEnd('.', ':');
        return line.Length == 0 ? "it cannot be parsed" : char.ToLowerInvariant(line[0]) + line[1..];
    }

    [GeneratedRegex(@"\s*(at )?\(\d+:\d+\)")]
    private static partial Regex Place();

    static FluidParser LimitedParser()
    {
        var parser = new FluidParser();
        string[] allowed = ["if", "unless", "case", "for", "break", "continue", "comment"];
        foreach (var tag in parser.RegisteredTags.Keys.Except(allowed).ToList()) parser.RegisteredTags.Remove(tag);
        return parser;
    }

    sealed class OutputPlacer(TextPlace place) : AstRewriter
    {
        protected override Statement VisitOutputStatement(OutputStatement statement) =>
            new PlacedOutput(((OutputStatement)base.VisitOutputStatement(statement)).Expression, place);

        protected override Statement VisitCaseStatement(CaseStatement statement)
        {
            var found = (CaseStatement)base.VisitCaseStatement(statement);
            return new CaseStatement(new Present(found.Expression), found.Else, [.. found.Whens]);
        }

        protected override Expression VisitGreaterThanBinaryExpression(GreaterThanBinaryExpression expression)
        {
            var found = (GreaterThanBinaryExpression)base.VisitGreaterThanBinaryExpression(expression);
            return new Comparison(found.Left, found.Right, isGreater: true, found.Strict);
        }

        protected override Expression VisitLowerThanBinaryExpression(LowerThanBinaryExpression expression)
        {
            var found = (LowerThanBinaryExpression)base.VisitLowerThanBinaryExpression(expression);
            return new Comparison(found.Left, found.Right, isGreater: false, found.Strict);
        }
    }

    sealed class BoundedWriter : StringWriter
    {
        public BoundedWriter() : base(new StringBuilder(128), CultureInfo.InvariantCulture)
        {
        }

        public override void Write(char value)
        {
            TemplateWork.Fits(GetStringBuilder().Length + 1);
            base.Write(value);
        }

        public override void Write(string? value)
        {
            TemplateWork.Fits(GetStringBuilder().Length + (value?.Length ?? 0));
            base.Write(value);
        }

        public override void Write(char[] buffer, int index, int count)
        {
            TemplateWork.Fits(GetStringBuilder().Length + count);
            base.Write(buffer, index, count);
        }

        public override void Write(ReadOnlySpan<char> buffer)
        {
            TemplateWork.Fits(GetStringBuilder().Length + buffer.Length);
            base.Write(buffer);
        }
    }
}
