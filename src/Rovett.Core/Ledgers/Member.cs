using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>A connected user in a log's list: found and removed in one step. <see cref="AddressIndex"/> is the
/// address that reaches the user with what comes next; −1 when only older notifications are the user's to see.</summary>
sealed class Member
{
    public readonly UserState User;
    public readonly UserLog Log;
    public readonly int AddressIndex;
    readonly List<Member> list;
    int index;

    public Member(UserState user, UserLog log, int addressIndex, LogState home)
    {
        (User, Log, AddressIndex, list) = (user, log, addressIndex, home.Members);
        index = list.Count;
        list.Add(this);
    }

    /// <summary>Takes it out of the list.</summary>
    public void Leave()
    {
        var last = list[^1];
        list[index] = last;
        last.index = index;
        list.RemoveAt(list.Count - 1);
    }
}
