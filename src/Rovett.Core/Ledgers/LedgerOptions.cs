namespace Rovett.Core.Ledgers;

/// <summary>The ledger's options.</summary>
public sealed record LedgerOptions
{
    /// <summary>How far back a new holder of a role sees; zero: only newer notifications. Default 7 days.</summary>
    public TimeSpan Newcomers { get; init; } = TimeSpan.FromDays(7);

    /// <summary>Refuse sends to unknown addresses.</summary>
    public bool StrictAddresses { get; init; }

    /// <summary>Where roles come from.</summary>
    public RolesFrom RolesFrom { get; init; }

    /// <summary>How long entries are stored; null: for good.</summary>
    public TimeSpan? KeepFor { get; init; }

    /// <summary>How many entries a space stores at most; null: any number.</summary>
    public long? KeepCount { get; init; }

    /// <summary>How many users who are not connected stay in memory, in all spaces.</summary>
    public int MostIdleUsers { get; init; } = 100_000;

    /// <summary>How many logs, addresses, roles and topics stay in memory, in all spaces, before unused ones
    /// are dropped.</summary>
    public int MostLoose { get; init; } = 300_000;

    /// <summary>Whether the receipts of any type are kept for each person.</summary>
    public bool KeepsFullReceipts { get; init; }

    /// <summary>Users who return within this time were not away: others see neither a departure nor an arrival.</summary>
    public TimeSpan PresenceGrace { get; init; } = TimeSpan.FromSeconds(10);

    /// <summary>After a start, sessions have this long to reconnect before a deadline counts as missed.</summary>
    public TimeSpan ReconnectWindow { get; init; } = TimeSpan.FromSeconds(30);

    /// <summary>Sessions of a space that another process takes come back spread over so many milliseconds.</summary>
    public int ComeBackWithinMs { get; init; } = 3000;
}

/// <summary>Options that may be replaced while ledgers work by them.</summary>
/// <param name="first">The first ones.</param>
public sealed class OptionsInForce(LedgerOptions first)
{
    volatile LedgerOptions now = first;

    /// <summary>Those that hold now. What was begun by those before ends by them; sizes of what stays in memory, and the window after a
    /// start, are those of the first.</summary>
    public LedgerOptions Now { get => now; set => now = value; }

    /// <summary>Options that nobody replaces.</summary>
    public static implicit operator OptionsInForce(LedgerOptions options) => new(options);
}
