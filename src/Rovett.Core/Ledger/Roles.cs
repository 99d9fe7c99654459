using Rovett.Core.Delivery;

namespace Rovett.Core.Ledger;

/// <summary>Which roles a user holds: out of the newest token, the directory, or both. A change is an entry, and reaches
/// every live session of the user before anything that comes after it.</summary>
static class Roles
{
    /// <summary>Takes the roles that a credential names into account.</summary>
    public static void TakeToken(Ledger ledger, SpaceState space, UserState user, Identity identity)
    {
        var row = user.Row;
        var tokenRoles = row.TokenRoles;
        if (identity.Roles is { } named)
        {
            if (identity.IssuedAtMicros > row.RolesIssuedAt || !user.IsKnown || row.RolesIssuedAt == 0) tokenRoles = named;
            // Of two tokens of one instant only what both name holds; an older one brings nothing back.
            else if (identity.IssuedAtMicros == row.RolesIssuedAt) tokenRoles = [.. row.TokenRoles.Where(named.Contains)];
        }
        var changed = row with
        {
            Seen = row.Seen ?? ledger.Now,
            TokenRoles = tokenRoles,
            RolesIssuedAt = identity.Roles is null ? row.RolesIssuedAt : Math.Max(row.RolesIssuedAt, identity.IssuedAtMicros),
        };
        Apply(ledger, space, user, changed);
    }

    /// <summary>Gives a user another row, and carries what it changes of the roles through.</summary>
    public static void Apply(Ledger ledger, SpaceState space, UserState user, PersonRow row)
    {
        bool same = ReferenceEquals(row, user.Row) || (row.Seen == user.Row.Seen && row.RolesIssuedAt == user.Row.RolesIssuedAt && row.DisplayName == user.Row.DisplayName && row.Locale == user.Row.Locale
            && row.TokenRoles.SequenceEqual(user.Row.TokenRoles) && row.DirectoryRoles.SequenceEqual(user.Row.DirectoryRoles));
        user.Row = row;
        var wanted = new HashSet<string>();
        if (row.Seen is not null) wanted.Add("everyone");
        if (ledger.Options.RolesFrom != RolesFrom.Directory) wanted.UnionWith(row.TokenRoles.Select(r => "role:" + r));
        if (ledger.Options.RolesFrom != RolesFrom.Token) wanted.UnionWith(row.DirectoryRoles.Select(r => "role:" + r));
        var lost = user.Held.Where(a => !wanted.Contains(a)).Order(StringComparer.Ordinal).ToList();
        var gained = wanted.Where(a => !user.Holds(a)).Order(StringComparer.Ordinal).ToList();
        if (lost.Count + gained.Count > 0) Change(ledger, space, user, lost, gained);
        else if (!same) ledger.Store.SavePerson(row);
    }

    static void Change(Ledger ledger, SpaceState space, UserState user, List<string> lost, List<string> gained)
    {
        var store = ledger.Store;
        space.ForgetLogs(user);
        var (position, time) = space.Draw();
        store.AppendEntry(space.Id, new EntryRow(position, time, EntryKind.Membership, default, Body(user, gained, lost), "", [], NotificationTraits.None));
        user.Memberships.RemoveAll(m => m.Until <= space.Floor); // nothing of those times is stored any more
        foreach (var address in lost)
        {
            store.CloseMembership(space.Id, user.PersonId, address, position.Value);
            int index = user.Memberships.FindIndex(m => m.Until is null && m.Address == address);
            user.Memberships[index] = user.Memberships[index] with { Until = position.Value };
        }
        foreach (var address in gained)
        {
            long lastLoss = 0;
            foreach (var m in user.Memberships)
            {
                if (m.Address == address) lastLoss = Math.Max(lastLoss, m.Until ?? 0);
            }
            var membership = new Membership(address, Math.Min(space.NewcomerStart(address, lastLoss), position.Value), null);
            store.OpenMembership(space.Id, user.PersonId, membership);
            user.Memberships.Add(membership);
        }
        user.Row = user.Row with { RolesChangedAt = position.Value };
        store.SavePerson(user.Row);
        user.PlanVersion++;
        if (user.Sessions.Count > 0)
        {
            space.LeaveAll(user);
            space.JoinAll(user);
            user.Unread = user.CountUnread();
            bool Allowed(long log, long ordinal) => user.Logs!.Exists(l => l.Log.Id == log && l.Concerns(ordinal));
            var message = Messages.Channels(ChannelsOf(user), ledger.TotalsOf(user, user.Unread));
            foreach (var place in user.Sessions)
            {
                place.Session.PlanChanged(user.PlanVersion, Allowed);
                ledger.Tell(place, message);
            }
        }
        if (lost.Count > 0 || gained.Count > 0) Changes.ReleaseLost(ledger, space, user, everything: false);
    }

    /// <summary>The channels a user is on.</summary>
    public static IReadOnlyList<string> ChannelsOf(UserState user) =>
        [$"user:{user.Id.Value}", .. user.Held.Where(a => a != "everyone").Order(StringComparer.Ordinal), .. user.Held.Where(a => a == "everyone")];

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
