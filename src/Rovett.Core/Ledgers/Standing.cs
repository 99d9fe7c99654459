using Rovett.Core.Addresses;
using Rovett.Core.Nodes;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>Blocks and sign-outs: whether a user's credentials are accepted.</summary>
static class Standing
{
    const int MostAhead = 64;

    /// <exception cref="ProblemException">403: blocked; 401: the credential was made before the user was signed out.</exception>
    public static void Require(UserState user, Identity identity)
    {
        if (user.Row.Blocked)
            throw new Problem(403, "user-blocked", "User blocked", "This user's credentials are not accepted.",
                "Ask an administrator. Backends: PUT /v1/users/{id} with \"blocked\": false.").ToException();
        if (identity.IssuedAtMicros < user.Row.ValidFrom || user.Row.Ahead.Contains(-identity.IssuedAtMicros)) throw SignedOut();
    }

    static ProblemException SignedOut() =>
        new Problem(401, "signed-out", "User signed out", "The credential was issued before the sign-out.",
        "Sign in again and use a token issued after the sign-out.").ToException();

    /// <summary>The user of a credential; null: the id is not known yet.</summary>
    /// <exception cref="ProblemException">The credential is not accepted.</exception>
    public static UserState? Find(SpaceState state, Identity identity)
    {
        var user = state.Find(identity.User.Value);
        if (user is not null) Require(user, identity);
        else if (identity.IssuedAtMicros < state.TombstoneOf(identity.User.Value)) throw SignedOut();
        return user;
    }

    /// <summary>Accepts a credential issued in the near future from now on. If the user is signed out before that time, it
    /// is refused.</summary>
    /// <returns>The row, which may have to be stored.</returns>
    public static PersonRow Shown(PersonRow row, Identity identity, StoredTime now)
    {
        long issued = identity.IssuedAtMicros;
        if (issued <= now.Micros || row.Ahead.Contains(issued)) return row;
        return row with { Ahead = [.. row.Ahead.Append(issued).OrderByDescending(Math.Abs).Take(MostAhead)] };
    }

    /// <summary>The row of a user who is signed out now.</summary>
    public static PersonRow SignedOut(PersonRow row, StoredTime now)
    {
        long validFrom = Math.Max(row.ValidFrom, now.Micros + 1); // the time may stand still while a clock that was set back catches up
        return row with
        {
            ValidFrom = validFrom,
            Ahead = [.. row.Ahead.Select(Math.Abs).Where(issued => issued >= validFrom).Select(issued => -issued)]
        };
    }

    /// <summary>Ends every session of a user, before anything that comes after it.</summary>
    public static int EndSessions(Ledger ledger, SpaceState state, UserState user, string reason, int? comeBackWithinMs = null)
    {
        int ended = user.Sessions.Count;
        foreach (var place in user.Sessions.ToList())
        {
            var end = new NodeEnd(place.Session, Messages.Ending(reason, comeBackWithinMs));
            state.Port.Add(end);
            state.Port.Add(new NodeLeave(user.Node, place.Session));
            ledger.Undo(() => state.Port.Add(end)); // whether or not it is stored, it is in no list any more
            state.Connected.Attend(user, place, null);
            state.Subscriptions.Leave(place);
            state.Presence.Leave(place);
        }
        if (ended == 0) return 0;
        user.Sessions.Clear();
        state.Connected.Leave(user);
        state.UserLogs.Save(user);
        return ended;
    }

    /// <summary>Stores what changed, as an entry.</summary>
    public static void Note(Ledger ledger, SpaceState state, UserState user, string what)
    {
        ledger.Store.SavePerson(user.Row);
        var (position, time) = state.Draw();
        var message = new MessageBuilder("standing");
        message.Writer.WriteNumber("person", user.PersonId);
        message.Writer.WriteString("what", what);
        ledger.Store.AppendEntry(state.Id,
            new EntryRow(position, time, EntryKind.Standing, default, message.Close(), Addressing.None, [], NotificationTraits.None));
    }
}
