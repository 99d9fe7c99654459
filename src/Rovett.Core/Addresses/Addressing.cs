namespace Rovett.Core.Addresses;

/// <summary>The recipients and exceptions of a notification in stored form: a line for each address, <c>+</c> before
/// recipients, <c>-</c> before exceptions.</summary>
/// <param name="Lines">The lines; empty for an entry that is no notification.</param>
public readonly record struct Addressing(string Lines)
{
    /// <summary>No notification.</summary>
    public static readonly Addressing None = new("");

    /// <summary>The stored form of addresses.</summary>
    public static Addressing Of(IEnumerable<Address> to, IEnumerable<Address> except) =>
        new(string.Join('\n', to.Select(a => "+" + a).Concat(except.Select(a => "-" + a))));

    /// <summary>The recipients.</summary>
    public IEnumerable<string> To => With('+');

    /// <summary>The exceptions.</summary>
    public IEnumerable<string> Except => With('-');

    /// <summary>True when it names an address, on either side.</summary>
    public bool Names(string address) => Lines.Split('\n').Any(line => line.Length > 1 && line.AsSpan(1).SequenceEqual(address));

    /// <summary>The same with another address in place of one.</summary>
    public Addressing Instead(string address, string other) =>
        new(string.Join('\n', Lines.Split('\n').Select(line => line.Length > 0 && line[1..] == address ? line[..1] + other : line)));

    /// <summary>The same without an address.</summary>
    public Addressing Without(string address) =>
        new(string.Join('\n', Lines.Split('\n').Where(line => line.Length > 0 && line[1..] != address)));

    IEnumerable<string> With(char sign) => Lines.Split('\n').Where(line => line.StartsWith(sign)).Select(line => line[1..]);
}
