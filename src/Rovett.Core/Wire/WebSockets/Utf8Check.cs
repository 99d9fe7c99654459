namespace Rovett.Core.Wire.WebSockets;

/// <summary>Checks UTF-8 (RFC 3629) that comes in pieces cut anywhere, and says no at the first byte that can't be.</summary>
public struct Utf8Check
{
    int need;
    byte low, high;

    /// <summary>True when no character is under way.</summary>
    public readonly bool Complete => need == 0;

    /// <summary>Takes the next piece; false when it can't be UTF-8, and the check is then spent.</summary>
    public bool Take(ReadOnlySpan<byte> bytes)
    {
        for (int i = 0; i < bytes.Length; i++)
        {
            if (need == 0)
            {
                int ascii = bytes[i..].IndexOfAnyInRange((byte)0x80, (byte)0xFF);
                if (ascii < 0) return true;
                i += ascii;
                if (!Begin(bytes[i])) return false;
                continue;
            }
            if (bytes[i] < low || bytes[i] > high) return false;
            (low, high) = (0x80, 0xBF);
            need--;
        }
        return true;
    }

    bool Begin(byte b)
    {
        (low, high) = (0x80, 0xBF);
        switch (b)
        {
            case >= 0xC2 and <= 0xDF: need = 1; return true;
            case >= 0xE0 and <= 0xEF:
                need = 2;
                if (b == 0xE0) low = 0xA0;      // no overlong forms
                else if (b == 0xED) high = 0x9F; // no surrogates
                return true;
            case >= 0xF0 and <= 0xF4:
                need = 3;
                if (b == 0xF0) low = 0x90;
                else if (b == 0xF4) high = 0x8F; // nothing above U+10FFFF
                return true;
            default: return false;
        }
    }
}
