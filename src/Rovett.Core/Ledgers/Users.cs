using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>Finds users and what is theirs.</summary>
static class Users
{
    /// <summary>A user with an inbox, whose credential holds.</summary>
    /// <exception cref="ProblemException">404: there is none; 401 or 403: the credential is no longer valid.</exception>
    public static UserState Required(SpaceState state, string user, Identity? by)
    {
        var found = state.Find(user)
            ?? throw new Problem(404, "unknown-user", "No inbox yet", "Nothing is stored for this user.",
            "Connect once, or send to the user first.").ToException();
        if (by is not null) Standing.Require(found, by);
        return found;
    }

    /// <summary>Where a notification stands for a user, if the user may see it.</summary>
    public static (UserLog Log, long Ordinal, EntryRow Entry)? Place(Ledger ledger, SpaceState state, UserState user, NotificationId id)
    {
        if (ledger.Store.FindNotification(state.Id, id) is not { } entry) return null;
        foreach (var place in entry.Placements)
        {
            if (user.Logs!.Find(l => l.Log.Id == place.Log) is { } log && log.SegmentOf(place.Ordinal) is not null)
            {
                return (log, place.Ordinal, entry);
            }
        }
        return null;
    }
}
