namespace Rovett.Core.Ledgers;

/// <summary>How the ledger behaves.</summary>
public sealed record LedgerOptions
{
    /// <summary>How far back somebody sees who holds a role for the first time; zero: only what comes after. Default 7 days.</summary>
    public TimeSpan Newcomers { get; init; } = TimeSpan.FromDays(7);

    /// <summary>Refuse a send that names an address nobody knows.</summary>
    public bool StrictAddresses { get; init; }

    /// <summary>Where roles come from.</summary>
    public RolesFrom RolesFrom { get; init; }

    /// <summary>How long entries are stored; null: for good.</summary>
    public TimeSpan? KeepFor { get; init; }

    /// <summary>How many entries a space stores at most; null: any number.</summary>
    public long? KeepCount { get; init; }

    /// <summary>How many users who are not connected stay in memory, in all spaces.</summary>
    public int MostIdleUsers { get; init; } = 100_000;

    /// <summary>How many logs, addresses, roles and topics stay in memory, in all spaces, before those are let go that
    /// nobody needs.</summary>
    public int MostLoose { get; init; } = 300_000;

    /// <summary>Whether the receipts of any type are kept for each person.</summary>
    public bool KeepsFullReceipts { get; init; }

    /// <summary>Users who return within this time were not away: others see neither a departure nor an arrival.</summary>
    public TimeSpan PresenceGrace { get; init; } = TimeSpan.FromSeconds(10);

    /// <summary>After a start, no deadline is found missed before sessions had so long to come back.</summary>
    public TimeSpan ReconnectWindow { get; init; } = TimeSpan.FromSeconds(30);
}
