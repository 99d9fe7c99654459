using Rovett.Core.Delivery;
using Rovett.Core.Wire;

namespace Rovett.Core.Presence;

/// <summary>The batch of commands under way, as presence uses it.</summary>
interface IPresenceBatch
{
    /// <summary>Notes how to undo a change, should the commit fail.</summary>
    void Undo(Action undo);
    /// <summary>Passes something to a session once the commit is on disk.</summary>
    /// <param name="session">The session.</param>
    /// <param name="key">Of those with one key only the newest is written.</param>
    /// <param name="message">The message.</param>
    /// <param name="leftOut">Called, on another thread, when too many wait and it is left out.</param>
    void Pass(ISessionPort session, string key, ControlMessage message, Action? leftOut);
}
