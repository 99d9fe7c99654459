using Rovett.Core.Delivery;
using Rovett.Core.Nodes;
using Rovett.Core.Store;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>Recovery after a failed commit.</summary>
public sealed partial class Ledger
{
    /// <summary>Undoes a failed attempt: drops its offers. The spaces it touched are read again, and
    /// their connected users counted anew.</summary>
    void Recover()
    {
        Port.Clear();
        toObserve.Clear();
        tallies.Clear();
        FanOut.Clear();
        for (int i = toUndo.Count - 1; i >= 0; i--) toUndo[i]();
        toUndo.Clear();
        var lost = attached.ToHashSet();
        attached.Clear();
        foreach (var space in touched.ToList()) Recover(space, lost);
    }

    /// <summary>Forgets what it knows of spaces that may be otherwise by now.</summary>
    void ReadAnew(IReadOnlyList<int> changed)
    {
        foreach (int id in changed)
        {
            if (spaces.Values.FirstOrDefault(s => s.Id == id) is { } known) Recover(known, []);
        }
    }

    void Recover(SpaceState old, HashSet<ISessionPort> lost)
    {
        var name = old.Row.Name;
        if (spaces.GetValueOrDefault(name) == old) spaces.Remove(name);
        recent.Of(name).Clear();
        old.Agenda.Forget();
        var users = old.WithSessions.ToList();
        var places = users.SelectMany(u => u.Sessions).ToList();
        if (places.Count == 0) return;
        try
        {
            var fresh = Space(name);
            fresh.OnlyReads = true; // the store may not take writes yet
            foreach (var user in users)
            {
                if (old.IsChangingRights && user.UsesTopics)
                {
                    // Its rights may not be up to date. They are when its devices have reconnected.
                    foreach (var place in user.Sessions)
                        Port.Add(new NodeEnd(place.Session, Messages.Ending("store-unavailable", 5000)));
                    user.Sessions.Clear();
                    continue;
                }
                var again = fresh.Find(user.PersonId);
                if (again is null || again.Id != user.Id) continue;
                fresh.UserLogs.Ensure(again);
                foreach (var place in user.Sessions) place.User = again;
                again.Sessions.AddRange(user.Sessions.Where(s => !lost.Contains(s.Session)));
                user.Sessions.Clear();
                if (again.Sessions.Count == 0) continue;
                foreach (var place in again.Sessions) Port.Add(new NodeJoin(again.Node, place.Session));
                Port.Add(new NodeTotal(again.Node, again.CountUnread()));
                fresh.Connected.Join(again);
                again.PlanVersion = user.PlanVersion + 1;
                foreach (var place in again.Sessions)
                {
                    fresh.Connected.Attend(again, place, place.Attends);
                    fresh.Subscriptions.Find(place);
                    fresh.Subscriptions.Join(place);
                    fresh.Presence.Rejoin(place);
                    Port.Add(new NodePlan(place.Session, again.PlanVersion, null));
                }
            }
            fresh.OnlyReads = false;
        }
        catch (Exception error)
        {
            // The store usually does not answer reads either: sessions end, and devices reconnect once it does.
            if (!store.IsFailure(error)) faults?.Bug(name, nameof(Recover), error);
            spaces.Remove(name);
            foreach (var user in users) user.Sessions.Clear();
            foreach (var place in places)
            {
                Port.Add(error is DeposedException
                    ? new NodeMove(place.Session, Messages.Ending("moved", options.Now.ComeBackWithinMs))
                    : new NodeEnd(place.Session, Messages.Ending("store-unavailable", 5000)));
            }
        }
    }
}
