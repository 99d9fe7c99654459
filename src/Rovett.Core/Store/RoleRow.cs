namespace Rovett.Core.Store;

/// <summary>What a role is set to. Null: as the service is configured.</summary>
public sealed record RoleRow(string Role, string? DisplayName, TimeSpan? Newcomers, bool Presence = false);
