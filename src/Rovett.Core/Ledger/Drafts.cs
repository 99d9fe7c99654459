using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;

namespace Rovett.Core.Ledger;

/// <summary>A notification that is checked and not yet stored.</summary>
/// <param name="To">Whom it is for.</param>
/// <param name="Except">Whom it passes by: users and roles.</param>
/// <param name="Body">The members that are the same for everybody, as JSON without braces.</param>
/// <param name="Subject">What it is about, or null.</param>
public sealed record Draft(IReadOnlyList<Address> To, IReadOnlyList<Address> Except, byte[] Body, string? Subject)
{
    /// <summary>The most people a send may name, <c>to</c> and <c>except</c> together.</summary>
    public const int MaxPersons = 100;
    /// <summary>The most roles a send may name, <c>to</c> and <c>except</c> together, with <c>everyone</c>.</summary>
    public const int MaxOthers = 16;
    /// <summary>The most audiences that may include one address.</summary>
    public const int MaxAudiencesPerAddress = 256;
}

/// <summary>Whom a send comes to by one address.</summary>
/// <param name="Address">The address.</param>
/// <param name="Users">Users who hold it.</param>
/// <param name="Connected">Of them, those with a live session.</param>
/// <param name="Stored">Those who find it in their inbox: <paramref name="Users"/> without those who are left out by name. (Roles in <c>except</c> are applied for each person when it is read, and not taken off here.)</param>
/// <param name="Known">False when nobody by that name ever showed a credential.</param>
public sealed record Reach(string Address, long Users, long Connected, long Stored, bool Known);

/// <summary>What became of a send.</summary>
public sealed record SendResult(NotificationId Id, Position Position, IReadOnlyList<Reach> Reach, bool Repeated);

/// <summary>A key of the caller that makes a send safe to repeat.</summary>
/// <param name="Key">API key, path and <c>Idempotency-Key</c> together.</param>
/// <param name="BodyHash">SHA-256 of the body.</param>
public sealed record Idempotency(string Key, byte[] BodyHash)
{
    /// <summary>How long an answer is kept.</summary>
    public static readonly TimeSpan KeptFor = TimeSpan.FromHours(48);
}

/// <summary>Who shows a credential, and what it says.</summary>
/// <param name="User">The id.</param>
/// <param name="Roles">The roles it names; null when it does not speak of roles, which then stay as they are.</param>
/// <param name="IssuedAtMicros">Its <c>iat</c>.</param>
public sealed record Identity(UserId User, IReadOnlyList<string>? Roles, long IssuedAtMicros);

/// <summary>Which ordinals of which logs a session or an inbox may be given: made by the ledger, read by others.</summary>
public sealed record ReadPlan(UserState User, int Version, IReadOnlyList<PlannedLog> Logs, Position Head, TotalsBy Totals);

/// <summary>One log of a plan, with copies of the marks where they matter.</summary>
public sealed record PlannedLog(long Log, IReadOnlyList<string> Addresses, IReadOnlyList<Segment> Segments, Marks.OrdinalSet Dead, Marks.OrdinalSet Skips, Marks.OrdinalSet? Read, Marks.OrdinalSet? Received);
