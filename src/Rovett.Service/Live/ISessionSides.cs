using System.Net;
using Rovett.Service.Spaces;

namespace Rovett.Service.Live;

/// <summary>Finds the node that serves a space, for sessions that stay through a take-over.</summary>
interface ISessionSides
{
    /// <summary>Waits up to 6 s for a node to serve a space. Callers that wait at the same time share one wait.</summary>
    /// <returns>False: no node that sessions of this one can attach to.</returns>
    Task<bool> IsServed(SpaceRuntime space);

    /// <summary>The side to attach a session to.</summary>
    /// <param name="space">The space.</param>
    /// <param name="address">The network address of the session's device.</param>
    /// <returns>Null: no node serves the space just now.</returns>
    ValueTask<ISessionSide?> Of(SpaceRuntime space, IPAddress? address);
}
