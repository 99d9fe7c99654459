using Rovett.Core.Delivery;

namespace Rovett.Core.Presence;

/// <summary>The batch of commands under way, as presence uses it.</summary>
interface IPresenceBatch
{
    /// <summary>Notes how to undo a change, should the commit fail.</summary>
    void Undo(Action undo);
    /// <summary>Has a session write once the commit is on disk.</summary>
    void FlushLater(ISessionPort session);
}
