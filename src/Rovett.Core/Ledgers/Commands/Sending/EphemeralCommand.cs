using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers.Commands.Sending;

/// <summary>Sends an ephemeral notification to connected users: no position, no count, nothing stored.</summary>
/// <param name="space">The space's name.</param>
/// <param name="draft">The notification.</param>
public sealed class EphemeralCommand(string space, Draft draft) : LedgerCommand<IReadOnlyList<Reach>>(space)
{
    internal override void Execute(Ledger ledger) => Answer = Pass(ledger, ledger.Space(Space), draft);

    /// <summary>Passes a notification on.</summary>
    internal static IReadOnlyList<Reach> Pass(Ledger ledger, SpaceState state, Draft draft)
    {
        var reach = Recipients.Of(ledger, state, draft);
        Recipients.Check(ledger, draft, reach);
        var key = draft.Traits.Type + "\n" + draft.Traits.Subject;
        var told = new HashSet<SessionPlace>();
        foreach (var address in draft.To.OrderBy(a => a.Kind == AddressKind.User ? 0 : 1).ThenBy(a => a.ToString(), StringComparer.Ordinal))
        {
            ControlMessage? message = null;
            foreach (var (user, only) in Connected(state, address))
            {
                if (address.Kind != AddressKind.User
                    && draft.Except.Any(e => e.Kind == AddressKind.User ? e.Name == user.Id.Value : user.Holds(e.ToString())))
                {
                    continue;
                }
                if (user.HasMuted(draft.Traits)) continue;
                message ??= Messages.Ephemeral(address.ToString(), draft.Body, state.Time);
                foreach (var place in only is null ? user.Sessions : [only])
                {
                    if (told.Add(place)) ledger.Pass(place.Session, key, message, null);
                }
            }
        }
        return [.. reach.Select(r => r with { Stored = 0 })];
    }

    /// <summary>Connected users and sessions reached by an address; for a topic also single sessions that have subscribed.</summary>
    internal static IEnumerable<(UserState User, SessionPlace? Only)> Connected(SpaceState state, Address address)
    {
        if (address.Kind == AddressKind.User) return state.Find(address.Name) is { Sessions.Count: > 0 } user ? [(user, null)] : [];
        var holders = state.Connected.Holding(address.ToString()).Select(u => (u, (SessionPlace?)null));
        return address.Kind == AddressKind.Topic
            ? holders.Concat(state.Subscriptions.On(address.Name).Select(p => (p.User, (SessionPlace?)p)))
            : holders;
    }
}
