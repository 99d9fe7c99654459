using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>The users in memory.</summary>
internal sealed partial class SpaceState
{
    /// <summary>A user, or null when the store knows none by that id.</summary>
    public UserState? Find(string user)
    {
        if (users.TryGetValue(user, out var known)) return Settled(known);
        return store.FindPerson(Id, user) is { } row ? Settled(KeepUser(row)) : null;
    }

    /// <summary>A user by the store's number.</summary>
    public UserState? Find(long person)
    {
        if (usersById.TryGetValue(person, out var known)) return Settled(known);
        return store.FindPerson(person) is { } row ? Settled(KeepUser(row)) : null;
    }

    /// <summary>A user, brought up to date with policies and grants to roles if they changed since it was last
    /// looked at.</summary>
    UserState Settled(UserState user)
    {
        user.WasUsed = true;
        if (user.Row.RulesSeen < Topics.RulesAt && !OnlyReads) Topics.Settle(user);
        return user;
    }

    /// <summary>A user, created when unknown.</summary>
    public UserState FindOrAdd(string user)
    {
        if (Find(user) is { } known) return known;
        var row = store.AddPerson(Id, user, null);
        if (TombstoneOf(user) is var validFrom and > 0)
        {
            row = row with { ValidFrom = validFrom };
            store.SavePerson(row);
        }
        return KeepUser(row, isNew: true);
    }

    UserState KeepUser(PersonRow row, bool isNew = false)
    {
        var user = new UserState(Id, row) { Home = this };
        if (!isNew)
        {
            user.Memberships.AddRange(store.Memberships(row.Id));
            user.Mutes.AddRange(store.MutesOf(row.Id));
        }
        if (row.RulesSeen is not null)
        {
            foreach (var (topic, since) in store.Follows(row.Id)) user.Follows[topic] = since;
        }
        users[row.User] = user;
        usersById[row.Id] = user;
        residents.Add(user);
        return user;
    }

    /// <summary>Forgets a user that was removed.</summary>
    public void Forget(UserState user)
    {
        users.Remove(user.Id.Value);
        usersById.Remove(user.PersonId);
    }

    /// <summary>Drops an unused user from memory, with the personal log. Between batches only, so that no command
    /// holds one of them.</summary>
    public void Drop(UserState user)
    {
        if (users.GetValueOrDefault(user.Id.Value) != user) return; // another stands for it, after a failure
        Forget(user);
        if (logs.Remove("user:" + user.Id.Value, out var personal)) logsById.Remove(personal.Id);
    }

    /// <summary>A user, if in memory.</summary>
    public UserState? InMemory(string user) => users.GetValueOrDefault(user);

    /// <summary>How many users are in memory.</summary>
    public int UsersInMemory => users.Count;

    /// <summary>Applies <see cref="IClockStore.ShiftStanding"/> to the users in memory.</summary>
    /// <returns>Users whose sign-out moved.</returns>
    public List<UserState> ShiftStanding(long from, long by)
    {
        var moved = new List<UserState>();
        foreach (var user in users.Values)
        {
            if (user.Row.ValidFrom >= from)
            {
                user.Row = user.Row with { ValidFrom = user.Row.ValidFrom + by };
                moved.Add(user);
            }
            // Otherwise no fresh token could change roles until that time.
            if (by < 0 && user.Row.RolesIssuedAt >= from) user.Row = user.Row with { RolesIssuedAt = user.Row.RolesIssuedAt + by };
        }
        return moved;
    }

    /// <summary>Everybody with a session, also where a failure came between leaving the lists and joining them again.
    /// Looks at every user in memory.</summary>
    public IEnumerable<UserState> WithSessions => users.Values.Where(u => u.Sessions.Count > 0);
}
