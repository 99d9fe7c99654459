using Rovett.Core.Delivery;

namespace Rovett.Core.Presence;

/// <summary>A session that watches presence.</summary>
interface IPresenceViewer
{
    /// <summary>The session.</summary>
    ISessionPort Session { get; }
    /// <summary>The addresses it looks at, each with what it was last shown.</summary>
    ref LateMap<Shown> Watched { get; }
}
