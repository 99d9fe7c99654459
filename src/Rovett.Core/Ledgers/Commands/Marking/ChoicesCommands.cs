using Rovett.Core.Choices;

namespace Rovett.Core.Ledgers.Commands.Marking;

/// <summary>A user's choices.</summary>
public sealed class ChoicesCommand(string space, string userId) : LedgerCommand<ChoicesState>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger) =>
        Answer = ledger.Space(Space).Find(userId) is { } user ? ChoiceOperation.Of(user) : new ChoicesState([], null, 0);
}

/// <summary>Replaces all choices of a user. A mute that there was already keeps its start.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">The user's id.</param>
/// <param name="mutes">The types (true) and subjects to mute.</param>
/// <param name="quiet">The quiet hours; null: none.</param>
/// <param name="inPlaceOf">The rev that the choices must have; null: any.</param>
/// <param name="by">Who asks.</param>
public sealed class PutChoicesCommand(string space, string userId, IReadOnlyList<(bool IsType, string Text)> mutes, QuietHours? quiet,
    long? inPlaceOf, Identity? by = null) : LedgerCommand<ChoicesState>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var user = Users.Required(state, userId, by);
        if (inPlaceOf is { } expected && expected != user.Row.ChoicesRev)
        {
            throw new Problem(412, "other-version", "Another version is in effect",
                $"The choices are of rev {user.Row.ChoicesRev}, not {expected}: another device has changed them.",
                "Read them (GET /v1/choices) and apply your change to them.").ToException();
        }
        var before = user.Mutes.Where(m => m.Until is null).ToList();
        var ended = before.Where(m => !mutes.Contains((m.IsType, m.Text))).ToList();
        var begun = mutes.Distinct().Where(m => !before.Exists(b => (b.IsType, b.Text) == m)).ToList();
        var text = quiet?.ToText() ?? "";
        if (ended.Count > 0 || begun.Count > 0 || text != user.Row.Quiet)
        {
            ChoiceOperation.Begin(ledger, state, user);
            foreach (var mute in ended) ChoiceOperation.Unmute(ledger, state, user, mute.IsType, mute.Text);
            foreach (var (isType, what) in begun) ChoiceOperation.Mute(ledger, state, user, isType, what);
            user.Row = user.Row with { Quiet = text };
            ChoiceOperation.End(ledger, user);
        }
        Answer = ChoiceOperation.Of(user);
    }
}

/// <summary>Tells devices of users with quiet hours the next spans, once a day.</summary>
public sealed class ChoicesRoundCommand(string space) : LedgerCommand<bool>(space)
{
    static readonly TimeSpan Every = TimeSpan.FromHours(24);

    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger)
    {
        if (ledger.Known(Space) is null) return;
        var state = ledger.Space(Space);
        foreach (var user in state.Connected.All)
        {
            if (user.Row.Quiet.Length > 0 && state.Due.Micros - user.ChoicesToldAt >= (long)Every.TotalMicroseconds)
            {
                ChoiceOperation.Tell(ledger, user);
            }
        }
    }
}
