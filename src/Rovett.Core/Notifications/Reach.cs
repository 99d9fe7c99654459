namespace Rovett.Core.Notifications;

/// <summary>The recipients of a send by one address.</summary>
/// <param name="Address">The address.</param>
/// <param name="Users">Users who hold it.</param>
/// <param name="Connected">Of them, those with a live session that answers.</param>
/// <param name="Stored">Those who find it in their inbox: <paramref name="Users"/> without those who are left out by
/// name. (Roles in <c>except</c> are applied for each person when it is read, and not taken off here.)</param>
/// <param name="Known">False when no such user has connected or is in the directory.</param>
public sealed record Reach(string Address, long Users, long Connected, long Stored, bool Known);
