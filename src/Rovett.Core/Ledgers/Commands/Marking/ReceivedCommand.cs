using Rovett.Core.Delivery;
using Rovett.Core.Marks;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers.Commands.Marking;

/// <summary>Stores an acknowledgement of one device. May be written behind: losing it costs a repeat.</summary>
public sealed class ReceivedCommand(string space, string userId, IReadOnlyList<AckedRun> acked, bool handled, string device)
    : LedgerCommand<bool>(space)
{
    internal override bool IsFrequent => true;

    internal override void Needs(AheadList ahead) => ahead.Add(userId);

    internal override void Execute(Ledger ledger)
    {
        var state = ledger.Space(Space);
        if (state.Find(userId) is not { } user) return;
        state.UserLogs.Ensure(user);
        var parts = new List<(long, long)>();
        foreach (var log in user.Logs!)
        {
            parts.Clear();
            foreach (var ack in acked)
            {
                if (ack.Log == log.Log.Id) parts.AddRange(log.Within(ack.Run));
            }
            if (parts.Count > 0)
            {
                MarkOperation.Apply(ledger, state, user, log, parts, handled ? MarkVerb.Handled : MarkVerb.Received, device, ledger.Now,
                    wereSent: true);
            }
        }
        Answer = true;
    }
}
