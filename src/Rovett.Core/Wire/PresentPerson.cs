namespace Rovett.Core.Wire;

/// <summary>Somebody who is on a channel, as others are shown them.</summary>
/// <param name="User">The user's id.</param>
/// <param name="DisplayName">The name in the directory, or null.</param>
/// <param name="Profile">What the backend lets others be shown of the user: JSON; empty: nothing.</param>
/// <param name="Since">Since when.</param>
public sealed record PresentPerson(string User, string? DisplayName, string Profile, StoredTime Since);
