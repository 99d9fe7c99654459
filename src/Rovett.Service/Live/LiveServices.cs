using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Meters;
using Rovett.Service.Options;
using Rovett.Service.Tls;
using Rovett.Service.Topics;

namespace Rovett.Service.Live;

/// <summary>What every live session needs. <c>Switches</c>: what is broken on purpose; null: nothing. <c>Me</c>: this process among several
/// nodes; null: it is alone.</summary>
public sealed record LiveServices(LedgerPump Ledger, HistoryReader History, RecentBySpace Recent, AckBuffer Acks, SessionLimits Session,
    UsageLimits Limits, Tokens Tokens, Tickets Tickets, TopicGate Topics, RovettOptions Options, ServiceClock Clock, Faults Faults,
    DeviceRequests Requests, Lease Lease, ServiceMeters Meters, FaultSwitches? Switches = null, NodeIdentity? Me = null)
{
    const int TimedOneOf = 32;
    int opened = -1;

    /// <summary>Whether it is measured how long notifications take to the next session's connection: the first one's, and one of
    /// 32.</summary>
    public bool IsTimed() => Interlocked.Increment(ref opened) % TimedOneOf == 0;

    /// <summary>Finds the node that serves a space; null: this process serves all.</summary>
    internal ISessionSides? Sides { get; set; }

    const int MostReopening = 64;

    /// <summary>Limits how many sessions attach again at once.</summary>
    public SemaphoreSlim ReopenTurns { get; } = new(MostReopening);

    /// <summary>One for each session whose page is being read: the others wait here and not among the pool's work, so that whatever
    /// else is asked is answered beside thousands who catch up.</summary>
    public SemaphoreSlim PageTurns { get; } = new(Math.Max(2, Environment.ProcessorCount));

    readonly long started = Clock.GetTimestamp();

    /// <summary>Time since the service started: the sessions' clock, which never goes back.</summary>
    public TimeSpan Uptime => Clock.GetElapsedTime(started);
}
