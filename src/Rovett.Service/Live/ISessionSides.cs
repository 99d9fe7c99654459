using System.Net;
using Rovett.Service.Spaces;

namespace Rovett.Service.Live;

/// <summary>Finds who serves a space, for sessions that go on there.</summary>
interface ISessionSides
{
    /// <summary>Waits a little until somebody serves a space; all that ask at once wait for the same.</summary>
    /// <returns>False: nobody does whom sessions can go on with.</returns>
    Task<bool> IsServed(SpaceRuntime space);

    /// <summary>Who serves a space now.</summary>
    /// <param name="space">The space.</param>
    /// <param name="address">Where the session's device connects from.</param>
    /// <returns>Null: nobody, just now.</returns>
    ValueTask<ISessionSide?> Of(SpaceRuntime space, IPAddress? address);
}
