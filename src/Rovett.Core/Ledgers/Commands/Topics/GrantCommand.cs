using Rovett.Core.Policies;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>A grant to create.</summary>
/// <param name="User">To this user; null: to a role.</param>
/// <param name="Role">To this role; null: to a user.</param>
/// <param name="Topic">On this topic.</param>
/// <param name="Rights">The rights granted.</param>
/// <param name="For">How long; null: until it is ended.</param>
/// <param name="Until">Until when; null: see <paramref name="For"/>.</param>
/// <param name="Policy">The policy by which the backend was asked and allowed it; empty: none.</param>
/// <param name="Profile">The person's profile for others, as JSON; empty: none.</param>
public sealed record GrantDraft(string? User, string? Role, string Topic, TopicRights Rights, TimeSpan? For, StoredTime? Until,
    string Policy = "", string Profile = "");

/// <summary>A grant with the user's id.</summary>
public sealed record GrantInfo(Grant Grant, string? User);

/// <summary>Creates a grant. An answer of a decider replaces the one before it.</summary>
public sealed class GrantCommand(string space, GrantDraft draft) : SteppedCommand<GrantInfo>(space)
{
    private protected override bool ChangesRights => draft.Role is not null;

    private protected override List<UserState> Begin(Ledger ledger, SpaceState state)
    {
        var user = draft.User is null ? null : state.FindOrAdd(draft.User);
        long? since = null;
        if (draft.Policy.Length > 0)
        {
            foreach (var before in state.Topics.GrantsOn(draft.Topic)
                .Where(g => g.Person == user!.PersonId && g.Policy == draft.Policy && g.Rights == draft.Rights).ToList())
            {
                since = Math.Min(since ?? long.MaxValue, before.Since);
                Grants.End(ledger, state, before, quietly: true);
            }
        }
        var (position, time) = state.Draw();
        StoredTime? until = draft.For is { } span ? new StoredTime(state.Due.Micros + (long)span.TotalMicroseconds) : draft.Until is { } at
            ? ledger.Clock.DueAt(at)
            : null;
        var grant = new Grant(position.Value, user?.PersonId ?? 0, draft.Role ?? "", draft.Topic, draft.Rights, until, null, draft.Policy,
            draft.Profile)
        { Since = since ?? position.Value };
        Grants.Entry(ledger, state, position, time, grant, "given");
        ledger.Store.AddGrant(state.Id, grant);
        state.Topics.Forget(draft.Topic);
        if (until is { } end) state.AddDue(new DueRow(end, DueKind.GrantEnd, grant.Number, 0));
        Answer = Grants.Info(ledger, grant, draft.User);
        return Grants.Changed(ledger, state, grant, position.Value);
    }

    private protected override bool Step(Ledger ledger, SpaceState state, UserState user) =>
        Grants.Look(ledger, state, user, Answer.Grant, Answer.Grant.Number);
}
