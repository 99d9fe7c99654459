using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>One log that a session sees something of because it has subscribed to a topic, and for no other reason.</summary>
/// <param name="place">The session.</param>
/// <param name="seen">What it sees of the log: one segment; never stored, nothing of it is counted.</param>
internal sealed class SubscribedLog(SessionPlace place, UserLog seen)
{
    public readonly SessionPlace Place = place;
    public readonly UserLog Seen = seen;
    public int Index = -1;

    /// <summary>The log's address that reaches it.</summary>
    public int AddressIndex => Seen.Segments[0].AddressIndex;

    public string Address => Seen.Log.Texts[AddressIndex];
}
