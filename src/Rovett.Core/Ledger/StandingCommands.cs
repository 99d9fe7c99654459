using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;

namespace Rovett.Core.Ledger;

/// <summary>Whether a user's credentials hold at all.</summary>
static class Standing
{
    const int MostAhead = 64;

    /// <exception cref="ProblemException">403: blocked; 401: the credential was made before the user was signed out.</exception>
    public static void Require(UserState user, Identity identity)
    {
        if (user.Row.Blocked)
            throw new Problem(403, "user-blocked", "The user is blocked", "No credential of this user is let in.", "Ask whoever runs the application; backends: PUT /v1/users/{id} with \"blocked\": false.").Throw();
        if (identity.IssuedAtMicros < user.Row.ValidFrom || user.Row.Ahead.Contains(-identity.IssuedAtMicros)) throw SignedOut();
    }

    static ProblemException SignedOut() => new Problem(401, "signed-out", "The user was signed out", "The credential was made before that.", "Sign in again, and use a token that is made after the sign-out.").Throw();

    /// <summary>A user who shows a credential; null: nobody is known by the id yet.</summary>
    /// <exception cref="ProblemException">The credential does not hold.</exception>
    public static UserState? Find(SpaceState state, Identity identity)
    {
        var user = state.Find(identity.User.Value);
        if (user is not null) Require(user, identity);
        else if (identity.IssuedAtMicros < state.TombstoneOf(identity.User.Value)) throw SignedOut();
        return user;
    }

    /// <summary>A credential of the near future counts from now on: should the user be signed out before that comes, it does not hold.</summary>
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
        return row with { ValidFrom = validFrom, Ahead = [.. row.Ahead.Select(Math.Abs).Where(issued => issued >= validFrom).Select(issued => -issued)] };
    }

    /// <summary>Ends every session of a user, before anything that comes after it.</summary>
    public static int EndSessions(Ledger ledger, SpaceState state, UserState user, string reason, int? comeBackWithinMs = null)
    {
        int ended = user.Sessions.Count;
        foreach (var place in user.Sessions.ToList())
        {
            place.Session.Dismiss(Messages.Ending(reason, comeBackWithinMs));
            ledger.FlushLater(place.Session);
            state.Attend(user, place, null);
            state.Watches.Leave(place);
            state.Presence.Leave(place);
        }
        if (ended == 0) return 0;
        user.Sessions.Clear();
        state.LeaveAll(user);
        state.SaveLogs(user);
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
        ledger.Store.AppendEntry(state.Id, new EntryRow(position, time, EntryKind.Standing, default, message.Close(), "", [], NotificationTraits.None));
    }
}

/// <summary>Whether a credential holds; for requests that need nothing else of the ledger.</summary>
public sealed class StandingCommand(string space, Identity identity) : LedgerCommand<bool>
{
    internal override bool MayOnlyRead => true;

    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var user = Standing.Find(state, identity);
        if (identity.IssuedAtMicros > ledger.Now.Micros)
        {
            user ??= state.FindOrAdd(identity.User.Value);
            var row = Standing.Shown(user.Row, identity, ledger.Now);
            if (row != user.Row) ledger.Store.SavePerson(user.Row = row);
        }
        Answer = true;
    }
}

/// <summary>Signs a user out everywhere: sessions end, and no credential holds that was made before now. Answers how many sessions ended.</summary>
public sealed class SignOutCommand(string space, string userId) : LedgerCommand<(PersonRow Row, int Ended)>
{
    internal override void Write(Ledger ledger)
    {
        var state = ledger.Space(space);
        var user = state.FindOrAdd(userId); // also one whose tokens were never shown here yet
        user.Row = Standing.SignedOut(user.Row, ledger.Now);
        int ended = Standing.EndSessions(ledger, state, user, "signed-out");
        Standing.Note(ledger, state, user, "signed-out");
        Answer = (user.Row, ended);
    }
}
