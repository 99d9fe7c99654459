namespace Rovett.Core.Wire;

/// <summary>Writes messages as members of a JSON array, each with the comma after it.</summary>
public static class LongPoll
{
    /// <summary>One member.</summary>
    public static byte[] Member(ReadOnlySpan<byte> json) => [.. json, (byte)','];
}
