using Rovett.Core.Nodes;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>A connected user in a log's list. <see cref="AddressIndex"/> is the address that reaches the user with what comes next; −1
/// when only older notifications are the user's to see.</summary>
sealed class Member : RosterItem
{
    public readonly UserState User;
    public readonly UserLog Log;
    public readonly int AddressIndex;
    readonly LogState home;
    readonly NodeMember? there;

    /// <summary>Puts a user into the list of a log.</summary>
    public Member(UserState user, UserLog log, int addressIndex, LogState home)
    {
        (User, Log, AddressIndex, this.home) = (user, log, addressIndex, home);
        home.Members.Add(this);
        if (addressIndex < 0) return;
        there = new NodeMember(user.Node, addressIndex);
        user.Home.Port.Add(new NodeEnlist(home.Node, there, Joins: true));
        if (user.Mutes.Count > 0) LookAtEach();
    }

    /// <summary>The user has muted something: from now on notifications are looked at one by one.</summary>
    public void LookAtEach()
    {
        if (AddressIndex >= 0) home.AddWithMutes(this);
    }

    /// <summary>Takes the user out of the list.</summary>
    public void Leave()
    {
        home.Members.Remove(this);
        home.RemoveWithMutes(this);
        if (there is not null) User.Home.Port.Add(new NodeEnlist(home.Node, there, Joins: false));
    }
}
