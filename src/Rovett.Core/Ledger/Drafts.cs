using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;

namespace Rovett.Core.Ledger;

/// <summary>A notification that is checked and not yet stored.</summary>
/// <param name="To">Whom it is for.</param>
/// <param name="Except">Whom it passes by: users and roles.</param>
/// <param name="Body">The members that are the same for everybody, as JSON without braces.</param>
/// <param name="Traits">Its type, subject, and what else the service must know of it.</param>
public sealed record Draft(IReadOnlyList<Address> To, IReadOnlyList<Address> Except, byte[] Body, NotificationTraits Traits)
{
    /// <summary>The most people a send may name, <c>to</c> and <c>except</c> together.</summary>
    public const int MaxPersons = 100;
    /// <summary>The most roles a send may name, <c>to</c> and <c>except</c> together, with <c>everyone</c>.</summary>
    public const int MaxOthers = 16;
    /// <summary>The most audiences that may include one address.</summary>
    public const int MaxAudiencesPerAddress = 256;
    /// <summary>The most people a deadline for each of them may wait for.</summary>
    public const int MaxEach = 1000;

    /// <summary>How long it is worth anything; null: until retention takes it.</summary>
    public TimeSpan? Ttl { get; init; }
    /// <summary>A newer one in the same slot, for exactly the same people, takes its place.</summary>
    public string? Slot { get; init; }
    /// <summary>What must become of it, and within what time.</summary>
    public IReadOnlyList<DeadlineTerms> Deadlines { get; init; } = [];

    /// <summary>The full addressing as it is stored: one line per address, <c>+</c> or <c>-</c> before it.</summary>
    public string Addressing => string.Join('\n', To.Select(a => "+" + a).Concat(Except.Select(a => "-" + a)));

    /// <summary>What makes two slots the same: exactly the same addressing and the slot's name.</summary>
    internal string SlotKey => string.Join('\n', To.Select(a => "+" + a).Order(StringComparer.Ordinal).Concat(Except.Select(a => "-" + a).Order(StringComparer.Ordinal))) + "\n=" + Slot;
}

/// <summary>The state a notification must reach, for whom, within what time.</summary>
/// <param name="By">Received, handled, read or taken.</param>
/// <param name="Within">After it was stored.</param>
/// <param name="Each">For each who may see it when the time is up; otherwise for anyone.</param>
/// <param name="Otherwise">What is sent when it is missed; null: nothing.</param>
public sealed record DeadlineTerms(ReceiptState By, TimeSpan Within, bool Each, Draft? Otherwise);

/// <summary>Whom a send comes to by one address.</summary>
/// <param name="Address">The address.</param>
/// <param name="Users">Users who hold it.</param>
/// <param name="Connected">Of them, those with a live session that answers.</param>
/// <param name="Stored">Those who find it in their inbox: <paramref name="Users"/> without those who are left out by name. (Roles in <c>except</c> are applied for each person when it is read, and not taken off here.)</param>
/// <param name="Known">False when nobody by that name ever showed a credential or stands in the directory.</param>
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
/// <param name="Claims">What it says that policies look at (<see cref="Policies.ClaimSet"/>).</param>
public sealed record Identity(UserId User, IReadOnlyList<string>? Roles, long IssuedAtMicros, string Claims = "");

/// <summary>Which ordinals of which logs a session or an inbox may be given: made by the ledger, read by others.</summary>
public sealed record ReadPlan(UserState User, int Version, IReadOnlyList<PlannedLog> Logs, Position Head, TotalsBy Totals, long RolesChangedAt, ChannelList Channels);

/// <summary>The channels a session is on.</summary>
/// <param name="All">Every one: the user's own, the roles', those of topics, everyone's.</param>
/// <param name="Subscribed">Of the topics, those that the session has only subscribed to.</param>
public sealed record ChannelList(IReadOnlyList<string> All, IReadOnlyList<string> Subscribed);

/// <summary>One log of a plan.</summary>
public sealed record PlannedLog(long Log, IReadOnlyList<string> Addresses, IReadOnlyList<Segment> Segments, long Trimmed, LostNotification Lost)
{
    /// <summary>Set for a log that the session has only subscribed to: what of it the person has muted. Nothing of the log is counted.</summary>
    public Marks.OrdinalSet? SubscribedMuted { get; init; }

    /// <summary>Whether retention took something after a position that was this user's to see.</summary>
    public bool LostAfter(long position) => Lost.Position > position && Segments.Any(s => Lost.Ordinal > s.Lo);
}
