using Rovett.Core.Delivery;

namespace Rovett.Core.Ledgers;

/// <summary>Finds a session among its user's.</summary>
static class SessionPlaces
{
    /// <summary>The session's user, whom a failed commit may have given another object, and its place; null: it is gone.</summary>
    public static (UserState User, SessionPlace Place)? Find(SpaceState state, UserState user, ISessionPort session)
    {
        var present = user.Sessions.Exists(s => s.Session == session) ? user : state.Find(user.PersonId) ?? user;
        return present.Sessions.Find(s => s.Session == session) is { } place ? (present, place) : null;
    }
}
