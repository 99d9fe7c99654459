using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Delivery;

/// <summary>What a session may be sent, as of one moment.</summary>
/// <param name="Logs">The logs it sees something of.</param>
/// <param name="On">The addresses that it is on.</param>
/// <param name="Watched">The addresses whose presence it looks at; true: only how many there are.</param>
public sealed record Sight(IReadOnlyDictionary<long, LogSight> Logs, IReadOnlySet<string> On, IReadOnlyDictionary<string, bool> Watched)
{
    /// <summary>Whether an ordinal of a log is visible, or was while it lived.</summary>
    public bool Allows(long log, long ordinal) => Logs.TryGetValue(log, out var sight) && sight.Concerns(ordinal);

    /// <summary>Whether a message that shows something of a channel may be sent.</summary>
    public bool MayShow(ChannelContent shown) => shown.View == ChannelView.Content ? On.Contains(shown.Address)
        : Watched.TryGetValue(shown.Address, out bool countOnly) && (shown.View == ChannelView.Count || !countOnly);
}
