using System.Net;
using Rovett.Service.Spaces;

namespace Rovett.Service.Live;

/// <summary>Finds who serves a space, for sessions that go on there.</summary>
interface ISessionSides
{
    /// <summary>Who serves a space; while nobody does, it waits a little.</summary>
    /// <param name="space">The space.</param>
    /// <param name="address">Where the session's device connects from.</param>
    /// <returns>Null: nobody whom sessions can go on with.</returns>
    Task<ISessionSide?> Next(SpaceRuntime space, IPAddress? address);
}
