namespace Rovett.Core.Ledger;

/// <summary>How the ledger behaves.</summary>
public sealed record LedgerOptions
{
    /// <summary>How far back somebody sees who holds a role for the first time; zero: only what comes after. Default 7 days.</summary>
    public TimeSpan Newcomers { get; init; } = TimeSpan.FromDays(7);

    /// <summary>Refuse a send that names an address nobody knows.</summary>
    public bool StrictAddresses { get; init; }
}
