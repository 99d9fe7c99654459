namespace Rovett.Core.Addresses;

/// <summary>The roles and <c>everyone</c> that one send goes to together, with the roles it leaves out: interned, so
/// that equal sets share one audience log. The order of <see cref="Includes"/> is fixed (byte by byte), and the first
/// that reaches a person is the address that the person is shown.</summary>
public sealed class Audience
{
    Audience(Address[] includes, Address[] excludes, string key)
    {
        Includes = includes;
        Excludes = excludes;
        Key = key;
    }

    /// <summary>The addresses it includes, in the fixed order.</summary>
    public IReadOnlyList<Address> Includes { get; }

    /// <summary>The roles it leaves out.</summary>
    public IReadOnlyList<Address> Excludes { get; }

    /// <summary>The key of the audience: one line per address, <c>+</c> or <c>-</c> before it.</summary>
    public string Key { get; }

    /// <summary>The audience of the non-personal addresses of a send, or null when it names persons only.</summary>
    public static Audience? Of(IEnumerable<Address> to, IEnumerable<Address> except)
    {
        var includes = Sorted(to);
        if (includes.Length == 0) return null;
        var excludes = Sorted(except);
        return new Audience(includes, excludes,
            string.Join('\n', includes.Select(a => "+" + a).Concat(excludes.Select(a => "-" + a))));
    }

    /// <summary>Reads back a stored <see cref="Key"/>.</summary>
    public static Audience Parse(string key)
    {
        var includes = new List<Address>();
        var excludes = new List<Address>();
        foreach (var line in key.Split('\n'))
        {
            (line[0] == '+' ? includes : excludes).Add(Address.OfStored(line[1..]));
        }
        return new Audience([.. includes], [.. excludes], key);
    }

    static Address[] Sorted(IEnumerable<Address> addresses) =>
        [.. addresses.Where(a => a.Kind != AddressKind.User).Distinct().OrderBy(a => a.ToString(), StringComparer.Ordinal)];
}
