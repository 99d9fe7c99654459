using Rovett.Core.Delivery;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Ends a session's subscription to a topic. Answers false when there was none.</summary>
public sealed class UnsubscribeCommand(string space, UserState user, ISessionPort session, string topic) : LedgerCommand<bool>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (SessionPlaces.Find(state, user, session) is not var (present, place) || !place.Topics.ContainsKey(topic)) return;
        Roles.ChangeTopics(ledger, state, place, topics => topics.Remove(topic));
        present.PlanVersion++;
        foreach (var other in present.Sessions) Roles.Replan(present, other);
        Roles.TellChannels(ledger, present, place);
        Answer = true;
    }
}
