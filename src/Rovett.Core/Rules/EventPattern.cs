namespace Rovett.Core.Rules;

/// <summary>The types of event that a rule is for: a type, or the beginning of types before a last <c>*</c>.</summary>
/// <param name="Text">As written.</param>
public sealed record EventPattern(string Text)
{
    /// <summary>Whether it ends with <c>*</c>.</summary>
    public bool IsPrefix => Text.EndsWith('*');

    /// <summary>The type, or what types begin with.</summary>
    public string Stem => IsPrefix ? Text[..^1] : Text;
}
