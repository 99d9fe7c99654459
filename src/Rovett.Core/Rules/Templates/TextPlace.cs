namespace Rovett.Core.Rules.Templates;

/// <summary>The places a template can stand in; each decides how filled-in values are escaped.</summary>
public enum TextPlace
{
    /// <summary>A text: as it is.</summary>
    Text,
    /// <summary>A link: each value is one part, percent-encoded.</summary>
    Link,
    /// <summary>An address: each value is part of one name.</summary>
    Address,
}
