using Rovett.Core.Nodes;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>A connected user in a log's list: found and removed in one step. <see cref="AddressIndex"/> is the
/// address that reaches the user with what comes next; −1 when only older notifications are the user's to see.</summary>
sealed class Member
{
    public readonly UserState User;
    public readonly UserLog Log;
    public readonly int AddressIndex;
    readonly LogState home;
    readonly List<Member> list;
    readonly NodeMember? there;
    int index;

    public Member(UserState user, UserLog log, int addressIndex, LogState home)
    {
        (User, Log, AddressIndex, this.home, list) = (user, log, addressIndex, home, home.Members);
        index = list.Count;
        list.Add(this);
        if (addressIndex < 0) return;
        there = new NodeMember(user.Node, addressIndex);
        user.Home.Port.Add(new NodeEnlist(home.Node, there, Joins: true));
        if (user.Mutes.Count > 0) home.Special.Add(this);
    }

    /// <summary>Its user has muted something: notifications are looked at one by one.</summary>
    public void IsSpecial()
    {
        if (AddressIndex >= 0) home.Special.Add(this);
    }

    /// <summary>Takes it out of the list.</summary>
    public void Leave()
    {
        var last = list[^1];
        list[index] = last;
        last.index = index;
        list.RemoveAt(list.Count - 1);
        home.Special.Remove(this);
        if (there is not null) User.Home.Port.Add(new NodeEnlist(home.Node, there, Joins: false));
    }
}
