using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Nodes;
using Rovett.Core.Notifications;
using Rovett.Core.Policies;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>The roles a user holds, by the newest token, the directory, or both. A change is an entry, and reaches
/// every live session of the user before anything that comes after it.</summary>
static class Roles
{
    /// <summary>Takes the roles that a credential names into account.</summary>
    public static void TakeToken(Ledger ledger, SpaceState space, UserState user, Identity identity)
    {
        var row = Standing.Shown(user.Row, identity, ledger.Now);
        var tokenRoles = row.TokenRoles;
        if (identity.Roles is { } named)
        {
            if (identity.IssuedAtMicros > row.RolesIssuedAt || !user.IsKnown || row.RolesIssuedAt == 0) tokenRoles = named;
            // Of two tokens of one instant only what both name holds; an older one brings nothing back.
            else if (identity.IssuedAtMicros == row.RolesIssuedAt) tokenRoles = [.. row.TokenRoles.Where(named.Contains)];
        }
        var claims = row.Claims;
        if (identity.Roles is not null || identity.Claims.Length > 0)
        {
            if (identity.IssuedAtMicros > row.RolesIssuedAt || !user.IsKnown || row.RolesIssuedAt == 0) claims = identity.Claims;
            else if (identity.IssuedAtMicros == row.RolesIssuedAt) claims = ClaimSet.Both(row.Claims, identity.Claims);
        }
        var changed = row with
        {
            Seen = row.Seen ?? ledger.Now,
            TokenRoles = tokenRoles,
            Claims = claims,
            RolesIssuedAt = identity.Roles is null
                && identity.Claims.Length == 0 ? row.RolesIssuedAt : Math.Max(row.RolesIssuedAt, identity.IssuedAtMicros),
        };
        Apply(ledger, space, user, changed);
    }

    /// <summary>Replaces a user's row, and applies the changes of roles and topics that follow from it.</summary>
    public static void Apply(Ledger ledger, SpaceState space, UserState user, PersonRow row)
    {
        bool sameRoles = row.TokenRoles.SequenceEqual(user.Row.TokenRoles) && row.DirectoryRoles.SequenceEqual(user.Row.DirectoryRoles);
        bool otherClaims = row.Claims != user.Row.Claims;
        bool same = sameRoles && !otherClaims && row.Seen == user.Row.Seen && row.RolesIssuedAt == user.Row.RolesIssuedAt
            && row.DisplayName == user.Row.DisplayName && row.Locale == user.Row.Locale && ReferenceEquals(row.Ahead, user.Row.Ahead);
        bool agreed = user.RolesAgree && sameRoles && !otherClaims && row.Seen is null == user.Row.Seen is null;
        user.Row = otherClaims ? row with { ClaimsAt = space.Head } : row;
        if (!agreed)
        {
            user.RolesAgree = false;
            var wanted = RolesOf(ledger, row);
            bool otherRoles = user.Held.Any(a => !IsTopic(a) && !wanted.Contains(a)) || wanted.Any(a => !user.Holds(a));
            if (otherRoles || otherClaims)
            {
                Change(ledger, space, user, wanted, null);
                same = true; // stored with it
            }
            user.RolesAgree = true;
        }
        if (!same) ledger.Store.SavePerson(user.Row);
    }

    /// <summary>Applies a possible change of a user's rights on topics.</summary>
    /// <param name="ledger">The ledger.</param>
    /// <param name="space">The space.</param>
    /// <param name="user">The user.</param>
    /// <param name="position">The entry that changed it; null: one is made when it changes anything.</param>
    public static void Reconsider(Ledger ledger, SpaceState space, UserState user, long? position) =>
        Change(ledger, space, user, RolesOf(ledger, user.Row), position);

    static HashSet<string> RolesOf(Ledger ledger, PersonRow row)
    {
        var roles = new HashSet<string>();
        if (row.Seen is not null) roles.Add("everyone");
        if (ledger.Options.RolesFrom != RolesFrom.Directory) roles.UnionWith(row.TokenRoles.Select(r => "role:" + r));
        if (ledger.Options.RolesFrom != RolesFrom.Token) roles.UnionWith(row.DirectoryRoles.Select(r => "role:" + r));
        return roles;
    }

    static bool IsTopic(string address) => address.StartsWith("topic:", StringComparison.Ordinal);

    static void Change(Ledger ledger, SpaceState space, UserState user, HashSet<string> roles, long? position)
    {
        // What was stored before it in this command is offered by what the user held then, and counted once.
        ledger.FanOut.Flush();
        var wanted = new HashSet<string>(roles);
        wanted.UnionWith(space.Topics.Followed(user, roles).Select(t => "topic:" + t));
        var lost = user.Held.Where(a => !wanted.Contains(a)).Order(StringComparer.Ordinal).ToList();
        var gained = wanted.Where(a => !user.Holds(a)).Order(StringComparer.Ordinal).ToList();
        bool moves = lost.Count + gained.Count > 0;
        if (moves)
        {
            if (position is null)
            {
                (var drawn, var time) = space.Draw();
                position = drawn.Value;
                ledger.Store.AppendEntry(space.Id,
                    new EntryRow(drawn, time, EntryKind.Membership, default, Body(user, gained, lost), Addressing.None, [],
                    NotificationTraits.None));
            }
            Move(ledger.Store, space, user, lost, gained, position.Value);
        }
        ledger.Store.SavePerson(user.Row);
        if (user.Sessions.Count > 0) Tell(ledger, space, user, moves);
        if (moves) Changes.ReleaseLost(ledger, space, user, everything: false);
    }

    /// <summary>Closes and opens memberships as of an entry.</summary>
    public static void Move(ILedgerStore store, SpaceState space, UserState user, List<string> lost, List<string> gained, long position)
    {
        if (lost.Count + gained.Count == 0) return;
        space.UserLogs.Forget(user);
        user.Channels = null;
        user.Memberships.RemoveAll(m => m.Until <= space.Floor); // nothing of those times is stored now
        foreach (var address in lost)
        {
            store.CloseMembership(space.Id, user.PersonId, address, position);
            space.CountMember(address, -1);
            int index = user.Memberships.FindIndex(m => m.Until is null && m.Address == address);
            user.Memberships[index] = user.Memberships[index] with { Until = position };
        }
        foreach (var address in gained)
        {
            long lastLoss = 0;
            foreach (var m in user.Memberships)
            {
                if (m.Address == address) lastLoss = Math.Max(lastLoss, m.Until ?? 0);
            }
            var membership = new Membership(address, Math.Min(space.NewcomerStart(address, lastLoss), position), null, position);
            store.OpenMembership(space.Id, user.PersonId, membership);
            space.CountMember(address, 1);
            user.Memberships.Add(membership);
        }
        user.Row = user.Row with { RolesChangedAt = Math.Max(user.Row.RolesChangedAt, position) };
        user.PlanVersion++;
    }

    /// <summary>What a connected user holds changed, or may have: each session's subscriptions are looked at again, what
    /// is no longer the user's is taken out of what waits, and each is told its channels.</summary>
    static void Tell(Ledger ledger, SpaceState space, UserState user, bool moved)
    {
        if (moved)
        {
            space.Connected.Leave(user);
            space.Connected.Join(user);
            space.Port.Add(new NodeTotal(user.Node, user.CountUnread()));
        }
        foreach (var place in user.Sessions)
        {
            var lost = place.Topics.Keys.Where(t => !space.Topics.GoesOn(user, t, TopicRights.Subscribe)).ToList();
            if (space.Presence.Prune(ledger, place) && !moved) user.PlanVersion++;
            if (!moved && lost.Count == 0) continue;
            ChangeTopics(ledger, space, place, topics =>
            {
                foreach (var topic in lost) topics.Remove(topic);
            });
            if (!moved) user.PlanVersion++;
            TellChannels(ledger, user, place);
        }
        foreach (var place in user.Sessions) Replan(user, place);
    }

    /// <summary>Changes what a session has subscribed to, and works out what it sees by it.</summary>
    public static void ChangeTopics(Ledger ledger, SpaceState space, SessionPlace place, Action<Dictionary<string, long>> change)
    {
        var before = place.Topics.ToList();
        ledger.Undo(() =>
        {
            place.Topics.Clear();
            foreach (var (topic, since) in before) place.Topics[topic] = since;
        });
        space.Subscriptions.Leave(place);
        change(place.Topics.Whole());
        space.Subscriptions.Find(place);
        space.Subscriptions.Join(place);
    }

    /// <summary>Tells a session its channels as they are now.</summary>
    public static void TellChannels(Ledger ledger, UserState user, SessionPlace place) =>
        ledger.Tell(place, Messages.Channels(ChannelsOf(user, place), Plans.TotalsOf(user)));

    /// <summary>A session has another plan: what waits and is no longer its user's does not leave.</summary>
    public static void Replan(UserState user, SessionPlace place)
    {
        // As of now: it is looked at later, on another thread.
        var seen = new Dictionary<long, LogSight>();
        foreach (var log in user.Logs!) seen[log.Log.Id] = log.SightNow();
        foreach (var watch in place.SubscribedLogs) seen.TryAdd(watch.Seen.Log.Id, watch.Seen.SightNow());
        HashSet<string> on = [.. user.Held, "user:" + user.Id.Value, .. place.Topics.Keys.Select(t => "topic:" + t)];
        var watched = place.Watched.ToDictionary(w => w.Key, w => w.Value.CountOnly);
        user.Home.Port.Add(new NodePlan(place.Session, user.PlanVersion, new Sight(seen, on, watched)));
    }

    /// <summary>The channels that a user's session is on; without a session those of the user.</summary>
    public static ChannelList ChannelsOf(UserState user, SessionPlace? place)
    {
        if (place is null or { Topics.Count: 0 } && user.Channels is { } known) return known;
        var subscribed = place?.Topics.Keys.Select(t => "topic:" + t).Where(t => !user.Holds(t)).Order(StringComparer.Ordinal)
            .ToArray() ?? [];
        string[] all = [$"user:{user.Id.Value}", .. user.Held.Where(a => a != "everyone").Concat(subscribed).Order(StringComparer.Ordinal),
            .. user.Held.Where(a => a == "everyone")];
        var list = new ChannelList(all, subscribed);
        if (subscribed.Length == 0) user.Channels = list;
        return list;
    }

    // By the store's number, not by name: a person can be erased, and the history keeps no name.
    static byte[] Body(UserState user, List<string> gained, List<string> lost)
    {
        var message = new MessageBuilder("membership");
        message.Writer.WriteNumber("person", user.PersonId);
        foreach (var (name, list) in new[] { ("gained", gained), ("lost", lost) })
        {
            message.Writer.WriteStartArray(name);
            foreach (var address in list) message.Writer.WriteStringValue(address);
            message.Writer.WriteEndArray();
        }
        return message.Close();
    }
}
