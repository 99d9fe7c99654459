using Rovett.Core.Addresses;
using Rovett.Core.Notifications;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Directory;

/// <summary>Erases a person: ends sessions, deletes roles, marks, acks, mutes and takings, and detaches the personal log.
/// The rest is scrubbed by
/// <see cref="EraseStepCommand"/>, step by step, also after a restart. History is kept under a pseudonym.
/// Answers null when the id is unknown.</summary>
/// <param name="space">The space's name.</param>
/// <param name="userId">The user's id.</param>
/// <param name="longestToken">The longest lifetime of a token: older tokens are refused for this long.</param>
public sealed class EraseUserCommand(string space, string userId, TimeSpan longestToken) : LedgerCommand<ErasureRow?>(space)
{
    internal override bool MayRevoke => true;

    /// <summary>Credentials issued earlier are refused from now on.</summary>
    internal long ValidFrom { get; private set; }

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (state.Find(userId) is not { } user)
        {
            Answer = ledger.Store.FindErasure(state.Id, userId); // it was begun before
            return;
        }
        var personal = state.PersonalLog(userId);
        Changes.ReleaseLost(ledger, state, user, everything: true);
        Standing.EndSessions(ledger, state, user, "erased");
        user.Follows.Clear();
        ValidFrom = Math.Max(user.Row.ValidFrom,
            Math.Max(ledger.Now.Micros + 1, user.Row.Ahead.Select(Math.Abs).DefaultIfEmpty().Max() + 1));
        Roles.Apply(ledger, state, user, user.Row with
        { Seen = null, TokenRoles = [], DirectoryRoles = [], DisplayName = null, Locale = null, Claims = "", RulesSeen = null });
        if (user.Held.Any()) Roles.Reconsider(ledger, state, user, null); // topics
        state.Forget(user);
        ledger.Store.ErasePerson(user.PersonId);
        state.Topics.ForgetAll();
        var (position, time) = state.Draw();
        var erasure = new ErasureRow(user.PersonId, userId, personal.Id, position.Value, state.LastReceipt, ErasureStage.Deadlines, 0,
            0, time)
        { Gathering = ledger.Store.NewestGathering() };
        // No id may hold a control character.
        ledger.Store.SavePerson(
            user.Row with
            {
                User = ErasedName.Of(erasure.Pseudonym),
                Rev = 0,
                RolesIssuedAt = 0,
                ValidFrom = 0,
                Blocked = false,
                Ahead = [],
                Quiet = "",
                ChoicesRev = 0,
                ClaimsAt = 0
            });
        state.Rename(personal, ErasedName.Of(erasure.Pseudonym));
        ledger.Store.AppendEntry(state.Id,
            new EntryRow(position, time, EntryKind.Erased, default, Changes.Member("person", erasure.Pseudonym), Addressing.None, [],
            NotificationTraits.None));
        ledger.Store.SaveErasure(state.Id, erasure);
        state.Agenda.IsErasing = true;
        ledger.Store.SaveTombstone(state.Id, state.HashOf(userId), ValidFrom, user.PersonId);
        state.HasTombstones = true;
        var end = new StoredTime(state.Due.Micros + (long)longestToken.TotalMicroseconds);
        state.AddDue(new DueRow(end, DueKind.TombstoneEnd, user.PersonId, 0));
        ledger.Observe(o => o.Erased(Space, userId));
        Answer = erasure;
    }
}
