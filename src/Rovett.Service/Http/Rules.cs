namespace Rovett.Service.Http;

/// <summary>What a member of a request must be. <see cref="RequestReader"/> checks it, and the OpenAPI document says it.
/// On a list, the rule is for each item.</summary>
[AttributeUsage(AttributeTargets.Property)]
public abstract class RuleAttribute : Attribute
{
    /// <summary>How an error goes on after "must be", where the general wording says too little.</summary>
    public string? Is { get; init; }

    /// <summary>The general wording after "must be".</summary>
    protected abstract string Usual { get; }

    /// <summary>True when the value may stand.</summary>
    public abstract bool Allows(object value);

    /// <summary>What is said about a value that may not stand.</summary>
    public string Detail => "must be " + (Is ?? Usual);
}

/// <summary>A text of so many characters; of one line unless it may have several.</summary>
/// <param name="min">The least characters.</param>
/// <param name="max">The most characters.</param>
public sealed class TextAttribute(int min, int max) : RuleAttribute
{
    /// <summary>The least characters.</summary>
    public int Min => min;

    /// <summary>The most characters.</summary>
    public int Max => max;

    /// <summary>Line breaks may stand in it.</summary>
    public bool Lines { get; init; }

    /// <inheritdoc/>
    protected override string Usual => $"{min} to {max} characters{(Lines ? "" : " without line breaks")}";

    /// <inheritdoc/>
    public override bool Allows(object value) =>
        value is string text && text.Length >= min && text.Length <= max && (Lines || !text.Any(char.IsControl));
}

/// <summary>A whole number within bounds.</summary>
/// <param name="min">The least.</param>
/// <param name="max">The most.</param>
public sealed class WholeAttribute(long min, long max) : RuleAttribute
{
    /// <summary>The least.</summary>
    public long Min => min;

    /// <summary>The most.</summary>
    public long Max => max;

    /// <inheritdoc/>
    protected override string Usual => $"a whole number from {min} to {max}";

    /// <inheritdoc/>
    public override bool Allows(object value) => Convert.ToInt64(value, null) is var number && number >= min && number <= max;
}

/// <summary>One of a few words.</summary>
/// <param name="values">The words.</param>
public sealed class OneOfAttribute(params string[] values) : RuleAttribute
{
    /// <summary>The words.</summary>
    public IReadOnlyList<string> Values => values;

    /// <inheritdoc/>
    protected override string Usual => values.Length switch
    {
        1 => values[0],
        2 => $"{values[0]} or {values[1]}",
        _ => $"one of {string.Join(", ", values)}",
    };

    /// <inheritdoc/>
    public override bool Allows(object value) => value is string text && values.Contains(text);
}

/// <summary>The most items of a list.</summary>
/// <param name="max">The most.</param>
/// <param name="what">What the items are, in the plural.</param>
[AttributeUsage(AttributeTargets.Property)]
public sealed class AtMostAttribute(int max, string what) : Attribute
{
    /// <summary>The most.</summary>
    public int Max => max;

    /// <summary>What is said about a list that is none, or too long.</summary>
    public string Detail => $"must be an array of at most {max} {what}";
}

/// <summary>A value as in the document's examples: a text, a number, true or false, several for a list; where
/// the member is an object or any JSON, its JSON text.</summary>
/// <param name="values">The value, or the items of a list.</param>
[AttributeUsage(AttributeTargets.Property)]
public sealed class ExampleAttribute(params object[] values) : Attribute
{
    /// <summary>The value, or the items of a list.</summary>
    public IReadOnlyList<object> Values => values;
}
