using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Marking;

/// <summary>Mutes a type or a subject for a user, or unmutes it, from now on.</summary>
public sealed class MuteCommand(string space, string userId, bool isType, string text, bool mute, Identity? by = null)
    : LedgerCommand<IReadOnlyList<MuteRow>>(space)
{
    /// <summary>The most mutes a user may have at a time.</summary>
    public const int Max = 100;

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var user = Users.Required(state, userId, by);
        bool muted = user.Mutes.Exists(m => m.Until is null && m.IsType == isType && m.Text == text);
        if (mute && !muted && user.Mutes.Count(m => m.Until is null) >= Max)
            throw new Problem(422, "too-many-mutes", "Too many mutes", $"The limit is {Max} for one user.",
                "End some of them first.").ToException();
        if (mute != muted)
        {
            ChoiceOperation.Begin(ledger, state, user);
            if (mute) ChoiceOperation.Mute(ledger, state, user, isType, text);
            else ChoiceOperation.Unmute(ledger, state, user, isType, text);
            ChoiceOperation.End(ledger, user);
        }
        Answer = [.. user.Mutes.Where(m => m.Until is null)];
    }
}

/// <summary>A user's mutes.</summary>
public sealed class MutesCommand(string space, string userId) : LedgerCommand<IReadOnlyList<MuteRow>>(space)
{
    internal override bool MayOnlyRead => true;

    internal override void Execute(Ledger ledger) =>
        Answer = ledger.Space(Space).Find(userId)?.Mutes.Where(m => m.Until is null).ToList() ?? [];
}
