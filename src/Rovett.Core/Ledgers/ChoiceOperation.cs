using Rovett.Core.Choices;
using Rovett.Core.Store;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers;

/// <summary>Changes what a user chose, and tells all of the user's devices.</summary>
static class ChoiceOperation
{
    /// <summary>Settles what came until now under the choices so far.</summary>
    public static void Begin(Ledger ledger, SpaceState state, UserState user)
    {
        state.UserLogs.Ensure(user);
        foreach (var log in user.Logs!) log.Save(ledger.Store, user.PersonId, evenUnchanged: true);
    }

    public static void Mute(Ledger ledger, SpaceState state, UserState user, bool isType, string text)
    {
        var row = new MuteRow(isType, text, state.Head, null, state.Time);
        ledger.Store.AddMute(user.PersonId, row);
        user.Mutes.Add(row);
        foreach (var member in user.Members) member.LookAtEach();
        foreach (var watch in user.Sessions.SelectMany(s => s.SubscribedLogs)) watch.LookAtEach();
    }

    public static void Unmute(Ledger ledger, SpaceState state, UserState user, bool isType, string text)
    {
        ledger.Store.EndMute(user.PersonId, isType, text, state.Head);
        int index = user.Mutes.FindIndex(m => m.Until is null && m.IsType == isType && m.Text == text);
        user.Mutes[index] = user.Mutes[index] with { Until = state.Head };
    }

    /// <summary>Counts the change, and tells the user's devices.</summary>
    public static void End(Ledger ledger, UserState user)
    {
        user.Row = user.Row with { ChoicesRev = user.Row.Rev + 1 };
        ledger.NextRev(user);
        Tell(ledger, user);
    }

    /// <summary>Tells all devices of a user.</summary>
    public static void Tell(Ledger ledger, UserState user)
    {
        if (user.Sessions.Count == 0) return;
        var message = MessageFor(user);
        user.ChoicesToldAt = user.Home.Due.Micros;
        foreach (var place in user.Sessions) ledger.Tell(place, message);
    }

    /// <summary>The message with a user's choices.</summary>
    public static ControlMessage MessageFor(UserState user)
    {
        var choices = Of(user);
        return Messages.Choices(choices.Mutes, choices.Quiet, choices.Quiet?.Spans(user.Home.Time.ToDateTime()) ?? [], choices.Rev);
    }

    /// <summary>A user's choices.</summary>
    public static ChoicesState Of(UserState user) =>
        new([.. user.Mutes.Where(m => m.Until is null)], QuietHours.OfText(user.Row.Quiet), user.Row.ChoicesRev);
}
