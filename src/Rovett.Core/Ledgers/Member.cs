using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>A connected user in a log's list: found and removed in one step. <see cref="AddressIndex"/> is the
/// address that reaches the user with what comes next; −1 when only older notifications are the user's to see.</summary>
internal sealed class Member(UserState user, UserLog log, int addressIndex)
{
    public readonly UserState User = user;
    public readonly UserLog Log = log;
    public readonly int AddressIndex = addressIndex;
    public int Index;
}
