using Rovett.Core.Addresses;

namespace Rovett.Core.Notifications;

/// <summary>A notification that is checked and not yet stored.</summary>
/// <param name="To">The recipients.</param>
/// <param name="Except">The exceptions: users and roles.</param>
/// <param name="Body">The members that are the same for everybody, as JSON without braces.</param>
/// <param name="Traits">Its type, its subject and other members that the service acts on.</param>
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

    /// <summary>Time to live; null: until retention deletes it.</summary>
    public TimeSpan? Ttl { get; init; }
    /// <summary>The slot: a newer notification in it, for exactly the same recipients, replaces this one.</summary>
    public string? Slot { get; init; }
    /// <summary>The states it must reach in time.</summary>
    public IReadOnlyList<DeadlineTerms> Deadlines { get; init; } = [];

    /// <summary>The full addressing as it is stored.</summary>
    public Addressing Addressing => Addressing.Of(To, Except);

    /// <summary>The key of the slot: the exact addressing and the slot's name.</summary>
    internal string SlotKey =>
        string.Join('\n', To.Select(a => "+" + a).Order(StringComparer.Ordinal)
        .Concat(Except.Select(a => "-" + a).Order(StringComparer.Ordinal))) + "\n=" + Slot;
}
