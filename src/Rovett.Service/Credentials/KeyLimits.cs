namespace Rovett.Service.Credentials;

/// <summary>What an API key is narrowed to: exact names, or the beginning of names and <c>*</c>. Empty: any.</summary>
/// <param name="Types">The types of notifications that it may send.</param>
/// <param name="Addresses">The addresses that it may send to.</param>
/// <param name="Events">The types of events that it may publish.</param>
/// <param name="Sources">The sources of events that it may publish.</param>
public sealed record KeyLimits(IReadOnlyList<string> Types, IReadOnlyList<string> Addresses, IReadOnlyList<string> Events,
    IReadOnlyList<string> Sources)
{
    /// <summary>Not narrowed.</summary>
    public static readonly KeyLimits None = new([], [], [], []);
}
