using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Policies;
using Rovett.Core.Wire;

namespace Rovett.Core.Ledgers.Commands.Topics;

/// <summary>Passes a message from a session to connected users on a topic's channel, without storing it. Answers the decision;
/// without the right nobody hears it.</summary>
/// <param name="space">The space's name.</param>
/// <param name="user">The user who says it.</param>
/// <param name="session">The session.</param>
/// <param name="topic">The topic, in its one form.</param>
/// <param name="data">The message: JSON.</param>
/// <param name="toSelf">Whether the session itself gets it too, if it is on the channel.</param>
public sealed class SayCommand(string space, UserState user, ISessionPort session, string topic, byte[] data, bool toSelf)
    : LedgerCommand<Decision>(space)
{
    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (SessionPlaces.Find(state, user, session) is not var (present, mine))
        {
            Answer = new Decision(true, ""); // it is gone: nobody is there to say it
            return;
        }
        var decision = Answer = state.Topics.Decide(present, topic, TopicRights.Say);
        if (!decision.Allowed) return;
        var message = Messages.Said("topic:" + topic, present.Id.Value, present.Row.DisplayName, decision.Profile, data, state.Time);
        var key = $"said {state.NextSaid++}"; // none takes another's place
        var told = new HashSet<SessionPlace>();
        foreach (var (listener, only) in EphemeralCommand.Connected(state, new Address(AddressKind.Topic, topic)))
        {
            foreach (var place in only is null ? listener.Sessions : [only])
            {
                if ((place != mine || toSelf) && told.Add(place)) ledger.Pass(place.Session, key, message, null);
            }
        }
    }
}
