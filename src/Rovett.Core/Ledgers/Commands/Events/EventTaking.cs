using System.Diagnostics;
using Rovett.Core.Events;
using Rovett.Core.Rules;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Events;

/// <summary>Takes one event within a command.</summary>
static class EventTaking
{
    /// <summary>Takes an event, or finds what came of it before.</summary>
    /// <exception cref="ProblemException">Refused before anything changed: 422, it differs from an earlier one; 503, too much is open or
    /// set aside.</exception>
    public static EventOutcome Take(Ledger ledger, SpaceState state, EvaluatedEvent evaluated, RuleSetting setting, bool keepsData)
    {
        var found = evaluated.Event;
        if (ledger.Store.FindEvent(state.Id, found.Source, found.Id) is { } earlier)
        {
            if (!earlier.Hash.AsSpan().SequenceEqual(found.Hash)) throw Differs(found).ToException();
            return EventOutcome.Parse(earlier.Outcome) with { IsRepeated = true };
        }
        var (version, rules) = state.Events.Current;
        var results = evaluated.Version == version ? evaluated.Results : rules.Apply(found, setting);
        if (results.Count == 0) return new EventOutcome { Nearest = rules.Nearest(found.Type) };
        RequireRoom(ledger, state, results);
        var making = new EventOperation(ledger, state, found);
        var asked = ledger.Trace;
        ledger.Trace = TraceOf(found, asked);
        foreach (var result in results) making.Make(result, []);
        ledger.Trace = asked;
        var outcome = making.Outcome([.. results.Select(r => r.Rule.Name)]);
        ledger.Store.SaveEvent(state.Id,
            new EventRow(found.Source, found.Id, found.Hash, ledger.Now, found.Type, found.Subject, found.Trace,
            outcome.ToBytes())
            { Content = keepsData ? found.Bytes : null });
        return outcome;
    }

    /// <summary>Where what is made of an event is shown, if anything is traced: in the trace that the event names, unless that is not
    /// recorded, or else in that of the request.</summary>
    static ActivityContext? TraceOf(IncomingEvent found, ActivityContext? asked) =>
        asked is null || !ActivityContext.TryParse(found.Trace, null, isRemote: true, out var own) ? asked
        : own.TraceFlags.HasFlag(ActivityTraceFlags.Recorded) ? own : null;

    static void RequireRoom(Ledger ledger, SpaceState state, IReadOnlyList<RuleResult> results)
    {
        if (state.Events.IsAsideFull && results.Any(r => Fails(ledger, state, r))) throw EventRules.AsideFull().ToException();
        if (results.Any(r => r.Rule.GathersFor is not null) && state.Events.Gatherings >= EventRules.MaxGatherings)
        {
            throw new Problem(503, "too-many-gatherings", "Too many gatherings",
                $"{EventRules.MaxGatherings} gatherings are open.", "Send it again later.")
            { RetryAfterSeconds = 30 }.ToException();
        }
    }

    /// <summary>Whether a rule fails, as far as can be told before anything is stored.</summary>
    static bool Fails(Ledger ledger, SpaceState state, RuleResult result)
    {
        try
        {
            foreach (var draft in result.Drafts.Where(d => d.IsStored && result.Rule.GathersFor is null))
            {
                Recipients.Check(ledger, draft.Draft, Recipients.Of(ledger, state, draft.Draft));
            }
            return result.Failure is not null;
        }
        catch (ProblemException)
        {
            return true;
        }
    }

    static Problem Differs(IncomingEvent found) =>
        new(422, "event-differs", "Event differs from an earlier one",
        $"An event with the source '{found.Source}' and the id '{found.Id}' was taken before, with other content.",
        "Give each event its own id, and repeat an event only with exactly the same content.");
}
