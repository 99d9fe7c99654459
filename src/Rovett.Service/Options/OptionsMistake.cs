namespace Rovett.Service.Options;

/// <summary>One thing wrong with the configuration: where it stands, what is wrong, and the fix.</summary>
public sealed record OptionsMistake(string Where, string What)
{
    /// <inheritdoc/>
    public override string ToString() => $"{Where}: {What}";
}
