namespace Rovett.Core.Rules.Templates;

/// <summary>Why a template has no result for an event.</summary>
/// <param name="detail">The reason, naming the value at fault.</param>
/// <param name="isMissing">Whether a value is missing or null.</param>
sealed class TemplateFault(string detail, bool isMissing = false) : Exception(detail)
{
    /// <summary>Whether a value is missing or null.</summary>
    public bool IsMissing => isMissing;
}
