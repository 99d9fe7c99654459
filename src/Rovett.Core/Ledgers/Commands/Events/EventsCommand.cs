using Rovett.Core.Events;
using Rovett.Core.Rules;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Events;

/// <summary>An event with what rules make of it, worked out before the ledger's turn.</summary>
/// <param name="Event">The event.</param>
/// <param name="Version">The version of the rules.</param>
/// <param name="Results">A result for each rule that matches.</param>
public sealed record EvaluatedEvent(IncomingEvent Event, long Version, IReadOnlyList<RuleResult> Results)
{
    /// <summary>Says what will be looked up for it.</summary>
    internal void Needs(AheadList ahead)
    {
        ahead.Events.Add((Event.Source, Event.Id));
        foreach (var draft in Results.SelectMany(r => r.Drafts)) Recipients.Needs(draft.Draft, ahead);
    }
}

/// <summary>The answer to an event: what came of it, or why it was refused.</summary>
/// <param name="Outcome">What came of it; null: it was refused.</param>
/// <param name="Refusal">Why it was refused; null: it was taken.</param>
public sealed record EventAnswer(EventOutcome? Outcome, Problem? Refusal);

/// <summary>Takes events in order, in one commit: stores their notifications, gatherings, and what is set aside of them. A refused
/// event changes nothing, and does not affect the others.</summary>
/// <param name="space">The space's name.</param>
/// <param name="events">The events, with their results under a version of the rules; worked out again if another is in force.</param>
/// <param name="setting">What rules take into account.</param>
/// <param name="keepsData">Keep the events as they came, not only their names.</param>
public sealed class EventsCommand(string space, IReadOnlyList<EvaluatedEvent> events, RuleSetting setting, bool keepsData = false)
    : LedgerCommand<IReadOnlyList<EventAnswer>>(space)
{
    /// <inheritdoc/>
    public override int Work => events.Count;

    internal override bool ShowsStoreWorks => true;

    internal override void Needs(AheadList ahead)
    {
        foreach (var one in events) one.Needs(ahead);
    }

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        var answers = new List<EventAnswer>(events.Count);
        foreach (var one in events)
        {
            try
            {
                answers.Add(new EventAnswer(EventTaking.Take(ledger, state, one, setting, keepsData), null));
            }
            catch (ProblemException refused)
            {
                answers.Add(new EventAnswer(null, refused.Problem));
            }
        }
        Answer = answers;
    }
}
