namespace Rovett.Core.Store;

/// <summary>Users, what they hold, roles and mutes. Part of <see cref="ILedgerStore"/>.</summary>
public interface IPeopleStore
{
    /// <summary>A user, or null.</summary>
    PersonRow? FindPerson(int space, string user);
    /// <summary>A user by the store's number, or null.</summary>
    PersonRow? FindPerson(long person);
    /// <summary>Makes a user.</summary>
    PersonRow AddPerson(int space, string user, StoredTime? seen);
    /// <summary>Stores a user.</summary>
    void SavePerson(PersonRow person);
    /// <summary>Every membership interval of a user, oldest first.</summary>
    IReadOnlyList<Membership> Memberships(long person);
    /// <summary>Opens an interval.</summary>
    void OpenMembership(int space, long person, Membership membership);
    /// <summary>Closes the open interval of an address.</summary>
    void CloseMembership(int space, long person, string address, long until);
    /// <summary>How many users hold an address now; −1 when nobody ever did.</summary>
    long MembersOf(int space, string address);
    /// <summary>The users who hold an address now, in the order of their numbers, after one.</summary>
    IReadOnlyList<(long Person, string User)> Holders(int space, string address, long after, int limit);
    /// <summary>A user's mutes, ended ones too.</summary>
    IReadOnlyList<MuteRow> MutesOf(long person);
    /// <summary>Stores a mute.</summary>
    void AddMute(long person, MuteRow mute);
    /// <summary>Ends the open mute of a type or subject.</summary>
    void EndMute(long person, bool isType, string text, long until);
    /// <summary>A role's settings, or null.</summary>
    RoleRow? FindRole(int space, string role);
    /// <summary>Stores a role's settings.</summary>
    void SaveRole(int space, RoleRow role);
}
