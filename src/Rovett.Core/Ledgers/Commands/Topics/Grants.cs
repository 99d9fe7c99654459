using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Policies;
using Rovett.Core.Store;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>The effects of creating and ending grants.</summary>
static class Grants
{
    /// <summary>A grant as it is shown.</summary>
    public static GrantInfo Info(Ledger ledger, Grant grant, string? user) =>
        new(grant.Until is { } until ? grant with { Until = ledger.Clock.Shown(until) } : grant, user);

    /// <summary>Ends a grant whose time is up.</summary>
    public static void Due(Ledger ledger, SpaceState state, long number)
    {
        if (ledger.Store.FindGrant(state.Id, number) is not { Ended: null } grant) return;
        long position = End(ledger, state, grant, quietly: false);
        foreach (var user in Changed(ledger, state, grant, position)) Look(ledger, state, user, grant, position);
    }

    /// <summary>Ends a grant. What that changes is up to the caller (<see cref="Changed"/>).</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="state">The space.</param>
    /// <param name="grant">The grant.</param>
    /// <param name="quietly">Another grant replaces it in the same step, so it leaves no trace among those that have ended.</param>
    /// <returns>The position of its end.</returns>
    public static long End(Ledger ledger, SpaceState state, Grant grant, bool quietly)
    {
        var (position, time) = state.Draw();
        Entry(ledger, state, position, time, grant, "ended");
        if (quietly) ledger.Store.RemoveGrant(state.Id, grant.Number);
        else ledger.Store.EndGrant(state.Id, grant.Number, position.Value);
        if (grant.Until is { } until) ledger.Store.RemoveDue(state.Id, new DueRow(until, DueKind.GrantEnd, grant.Number, 0));
        state.Topics.Forget(grant.Topic);
        return position.Value;
    }

    /// <summary>Applies the start or the end of a person's grant. A role's grant is applied to connected users by <see cref="Look"/>, and
    /// to everybody else the next time they are needed.</summary>
    /// <returns>The users to look at: none, or all who are connected.</returns>
    public static List<UserState> Changed(Ledger ledger, SpaceState state, Grant grant, long position)
    {
        if (grant.Person != 0)
        {
            if (state.Find(grant.Person) is { } user && IsOn(user, grant.Topic)) Roles.Reconsider(ledger, state, user, position);
            return [];
        }
        state.Topics.RulesAt = position;
        return [.. state.Connected.All];
    }

    /// <summary>Applies the start or the end of a role's grant to a connected user.</summary>
    /// <returns>Whether the user holds the role and uses the topic.</returns>
    public static bool Look(Ledger ledger, SpaceState state, UserState user, Grant grant, long position)
    {
        if (user.Follows.Count > 0) user.Row = user.Row with { RulesSeen = position };
        if (!user.Holds("role:" + grant.Role) || !IsOn(user, grant.Topic)) return false;
        Roles.Reconsider(ledger, state, user, position);
        return true;
    }

    static bool IsOn(UserState user, string topic) => user.Follows.ContainsKey(topic)
        || user.Sessions.Exists(s => s.Topics.ContainsKey(topic) || s.Watched.ContainsKey("topic:" + topic));

    /// <summary>Stores what changed, as an entry; people by the store's number.</summary>
    public static void Entry(Ledger ledger, SpaceState state, Position position, StoredTime time, Grant grant, string what)
    {
        var message = new MessageBuilder("grant");
        message.Writer.WriteString("what", what);
        message.Writer.WriteNumber("grant", grant.Number);
        if (grant.Person != 0) message.Writer.WriteNumber("person", grant.Person);
        else message.Writer.WriteString("role", grant.Role);
        message.Writer.WriteString("topic", grant.Topic);
        message.Writer.WriteStartArray("may");
        foreach (var name in RightNames.Of(grant.Rights)) message.Writer.WriteStringValue(name);
        message.Writer.WriteEndArray();
        ledger.Store.AppendEntry(state.Id,
            new EntryRow(position, time, EntryKind.Grant, default, message.Close(), Addressing.None, [], NotificationTraits.None));
    }
}
