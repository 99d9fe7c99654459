using Rovett.Core.Ledgers.Commands.Events;
using Rovett.Core.Rules;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Intakes;

/// <summary>Takes what a source handed over, in order, in one commit with how far the source is read. What would fail again is set
/// aside; what may be taken later stops the batch there, and the source waits.</summary>
/// <param name="space">The space's name.</param>
/// <param name="intake">The intake's name.</param>
/// <param name="batch">What it handed over, in order.</param>
/// <param name="setting">What rules take into account.</param>
/// <param name="keepsData">Keep the events as they came, not only their names.</param>
public sealed class IntakeCommand(string space, string intake, IReadOnlyList<HandedOver> batch, RuleSetting setting, bool keepsData)
    : LedgerCommand<HandedOverResults>(space)
{
    /// <inheritdoc/>
    public override int Work => batch.Count;

    internal override bool ShowsStoreWorks => true;

    internal override void Needs(AheadList ahead)
    {
        foreach (var one in batch) one.Event?.Needs(ahead);
    }

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var results = new List<HandedOverResult>(batch.Count);
        var places = new Dictionary<string, Func<string>>();
        Problem? blocked = null;
        foreach (var one in batch)
        {
            try
            {
                results.Add(Take(ledger, state, one));
            }
            catch (ProblemException refused) when (refused.Problem.Status is 429 or 503)
            {
                blocked = refused.Problem;
                break;
            }
            if (one.Place is { } place) places[one.Part] = place;
        }
        foreach (var (part, place) in places) ledger.Store.SaveIntakePosition(state.Id, intake, new IntakePosition(part, place()));
        Answer = new HandedOverResults(results, blocked);
    }

    HandedOverResult Take(Ledger ledger, SpaceState state, HandedOver one)
    {
        if (one.Event is null) return SetAside(ledger, state, one, one.Why);
        try
        {
            return new HandedOverResult(EventTaking.Take(ledger, state, one.Event, setting, keepsData), null, null);
        }
        catch (ProblemException refused) when (refused.Problem.Status is not (429 or 503))
        {
            return SetAside(ledger, state, one, refused.Problem.Detail);
        }
    }

    HandedOverResult SetAside(Ledger ledger, SpaceState state, HandedOver one, string why)
    {
        var origin = one.Origin is { } known ? $"{intake}\n{known}" : null;
        if (origin is not null && ledger.Store.IsSetAside(state.Id, origin)) return new HandedOverResult(null, null, why);
        if (state.Events.IsAsideFull) throw EventRules.AsideFull().ToException();
        var row = new SetAsideRow(state.Time, AsideKind.Intake, 0, why, one.Detail()) { Origin = origin };
        return new HandedOverResult(null, ledger.SetAside(state, row, $"something that the intake '{intake}' received"), why);
    }
}
