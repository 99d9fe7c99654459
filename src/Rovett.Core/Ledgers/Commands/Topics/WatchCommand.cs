using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Policies;
using Rovett.Core.Presence;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Shows a session the presence on a channel: everybody at once, then changes. Answers the decision; without the right
/// it is shown nothing.</summary>
/// <param name="space">The space's name.</param>
/// <param name="user">The user.</param>
/// <param name="session">The session.</param>
/// <param name="address">A topic or a role.</param>
/// <param name="most">The most addresses a session may look at.</param>
public sealed class WatchCommand(string space, UserState user, ISessionPort session, Address address, int most)
    : LedgerCommand<Decision>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (SessionPlaces.Find(state, user, session) is not var (_, place))
        {
            Answer = new Decision(true, ""); // it is gone: nobody is there to look
            return;
        }
        var decision = Answer = state.Presence.Decide(place, address);
        var text = address.ToString();
        if (!decision.Allowed) return;
        if (place.Watched.TryGetValue(text, out var before))
        {
            // It asks again, so it has lost what it was shown.
            place.Watched[text] = Shown.Nothing with { CountOnly = decision.CountOnly };
            ledger.Undo(() => place.Watched[text] = before);
            state.Presence.Show(ledger, place, text);
            return;
        }
        if (place.Watched.Count >= most)
        {
            throw new Problem(429, "too-many-watched", "Too many watched channels",
                $"The limit is {most} for one session (topicsPerSession).",
                "Unwatch one first.")
            { RetryAfterSeconds = 1 }.ToException();
        }
        place.Watched[text] = Shown.Nothing with { CountOnly = decision.CountOnly };
        ledger.Undo(() => place.Watched.Remove(text));
        state.Presence.Join(place, text);
        state.Presence.Show(ledger, place, text);
    }
}

/// <summary>Stops showing a session the presence on a channel. Answers false when it did not watch.</summary>
public sealed class UnwatchCommand(string space, UserState user, ISessionPort session, Address address) : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var text = address.ToString();
        if (SessionPlaces.Find(state, user, session) is not var (_, place) || !place.Watched.Remove(text, out var shown)) return;
        ledger.Undo(() => place.Watched[text] = shown);
        state.Presence.Leave(place, text);
        Roles.Replan(place.User, place); // otherwise queued messages would be sent after the user has lost the right to see them
        Answer = true;
    }
}
