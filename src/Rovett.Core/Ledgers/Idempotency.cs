namespace Rovett.Core.Ledgers;

/// <summary>A key of the caller that makes a send safe to repeat.</summary>
/// <param name="Key">API key, path and <c>Idempotency-Key</c> together.</param>
/// <param name="BodyHash">SHA-256 of the body.</param>
public sealed record Idempotency(string Key, byte[] BodyHash)
{
    /// <summary>How long an answer is kept.</summary>
    public static readonly TimeSpan KeptFor = TimeSpan.FromHours(48);
}
