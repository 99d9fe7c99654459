namespace Rovett.Core.Store;

/// <summary>A role's settings. Null: the service's default.</summary>
public sealed record RoleRow(string Role, string? DisplayName, TimeSpan? Newcomers, bool Presence = false);
