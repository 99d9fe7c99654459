using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Marks;
using Rovett.Core.Wire;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;
using Rovett.Service.Topics;

namespace Rovett.Service.Live;

/// <summary>Carries out what devices ask of the ledger.</summary>
/// <param name="ledger">The ledger.</param>
/// <param name="topics">Decides about topics.</param>
/// <param name="marks">Carries out marks.</param>
public sealed class DeviceRequests(LedgerPump ledger, TopicGate topics, MarkSteps marks)
{
    /// <summary>Carries out a message, but for acknowledgements and renewals.</summary>
    /// <param name="space">The space.</param>
    /// <param name="user">The session's user.</param>
    /// <param name="session">The session.</param>
    /// <param name="identity">The user's credential.</param>
    /// <param name="device">The session's device.</param>
    /// <param name="message">The message.</param>
    /// <returns>The answer; null: none is wanted.</returns>
    /// <exception cref="ProblemException">It is refused.</exception>
    public async Task<ControlMessage?> Handle(SpaceRuntime space, UserState user, ISessionPort session, Identity identity, string device,
        DeviceMessage message)
    {
        switch (message.Kind)
        {
            case DeviceMessageKind.Attend:
                await ledger.Ask(new AttendCommand(space.Name, user, session, message.Subject));
                break;
            case DeviceMessageKind.Take or DeviceMessageKind.Release:
                var taken = await ledger.Ask(
                    new TakeCommand(space.Name, user.Id.Value, message.Id, message.Kind == DeviceMessageKind.Take, identity));
                return Messages.Done(message.RequestId, taken.Totals);
            case DeviceMessageKind.Subscribe:
                await topics.Subscribe(space, user, session, message.Topic, message.After);
                break;
            case DeviceMessageKind.Say:
                await topics.Say(space, user, session, message.Topic, message.Data, message.ToSelf);
                break;
            case DeviceMessageKind.Watch:
                await topics.Watch(space, user, session, message.Address);
                break;
            case DeviceMessageKind.Unwatch:
                await ledger.Ask(new UnwatchCommand(space.Name, user, session, message.Address));
                break;
            case DeviceMessageKind.Unsubscribe:
                await ledger.Ask(new UnsubscribeCommand(space.Name, user, session, message.Topic));
                break;
            case DeviceMessageKind.Follow:
                return Messages.Done(message.RequestId, (await topics.Follow(space, identity, message.Topic)).Totals);
            case DeviceMessageKind.Unfollow:
                return Messages.Done(message.RequestId, (await topics.Unfollow(space, identity, message.Topic)).Totals);
            default:
                var verb = message.Kind == DeviceMessageKind.MarkRead ? MarkVerb.Read : MarkVerb.Unread;
                var totals = await marks.Mark(space.Name, identity, verb, message.Marks!, device, session);
                return Messages.Done(message.RequestId, totals.Totals);
        }
        return message.RequestId is null ? null : Messages.Done(message.RequestId, null);
    }
}
