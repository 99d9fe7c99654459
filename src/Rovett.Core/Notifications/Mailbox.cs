using System.Buffers;

namespace Rovett.Core.Notifications;

/// <summary>An e-mail address: one mailbox, without a name beside it.</summary>
public static class Mailbox
{
    const int MaxLength = 254, MaxLocalLength = 64;
    static readonly SearchValues<char> LocalCharacters =
        SearchValues.Create("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789!#$%&'*+-/=?^_`{|}~.");
    static readonly SearchValues<char> DomainCharacters =
        SearchValues.Create("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-.");

    /// <summary>The mistake in an address; null when it is one mailbox (RFC 5321, without quotes and address literals).</summary>
    public static string? Fault(string address)
    {
        int at = address.IndexOf('@', StringComparison.Ordinal);
        var (local, domain) = at < 0 ? (address, "") : (address[..at], address[(at + 1)..]);
        return address.Length <= MaxLength && local.Length is > 0 and <= MaxLocalLength && AreWords(local, LocalCharacters)
            && AreWords(domain, DomainCharacters) && !domain.Split('.').Any(l => l.StartsWith('-') || l.EndsWith('-'))
            ? null : "must be one e-mail address, such as bridge@marrowsound.example, without a name or a second address beside it";
    }

    static bool AreWords(string text, SearchValues<char> allowed) =>
        text.Length > 0 && !text.AsSpan().ContainsAnyExcept(allowed) && !text.StartsWith('.') && !text.EndsWith('.')
        && !text.Contains("..", StringComparison.Ordinal);

    /// <summary>The part after the <c>@</c>, in lower case.</summary>
    public static string DomainOf(string address) => address[(address.IndexOf('@', StringComparison.Ordinal) + 1)..].ToLowerInvariant();
}
