using Rovett.Core.Addresses;

namespace Rovett.Core.Notifications;

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

    /// <summary>The full addressing as it is stored.</summary>
    public Addressing Addressing => Addressing.Of(To, Except);

    /// <summary>What makes two slots the same: exactly the same addressing and the slot's name.</summary>
    internal string SlotKey =>
        string.Join('\n', To.Select(a => "+" + a).Order(StringComparer.Ordinal)
        .Concat(Except.Select(a => "-" + a).Order(StringComparer.Ordinal))) + "\n=" + Slot;
}
