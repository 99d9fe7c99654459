using System.Globalization;
using Microsoft.Extensions.Hosting.Systemd;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;

namespace Rovett.Service.Hosting;

/// <summary>Tells systemd (sd_notify) that the service takes requests, that it stops, and, as long as its lanes move, that it lives.
/// Started by something else, it says nothing.</summary>
/// <param name="ledger">Its lanes.</param>
/// <param name="clock">The clock.</param>
/// <param name="faults">Hears of bugs.</param>
sealed class Supervisor(LedgerPump ledger, TimeProvider clock, Faults faults) : IDisposable
{
    // A batch that takes so long is stuck. The watchdog's time begins then.
    static readonly TimeSpan Stuck = TimeSpan.FromSeconds(10);
    const int BeatsInTime = 3;

    readonly SystemdNotifier notifier = new();
    Repeating? beats;

    /// <summary>The service takes requests.</summary>
    public void Ready()
    {
        if (!notifier.IsEnabled) return;
        notifier.Notify(ServiceState.Ready);
        if (!long.TryParse(Environment.GetEnvironmentVariable("WATCHDOG_USEC"), CultureInfo.InvariantCulture, out long micros)) return;
        beats = new Repeating("watchdog", TimeSpan.FromMicroseconds(micros) / BeatsInTime, clock, faults, Beat);
    }

    Task Beat()
    {
        if (ledger.LongestUnderWay < Stuck) notifier.Notify(new ServiceState("WATCHDOG=1"));
        return Task.CompletedTask;
    }

    /// <summary>It stops.</summary>
    public void Stopping()
    {
        if (notifier.IsEnabled) notifier.Notify(ServiceState.Stopping);
    }

    /// <inheritdoc/>
    public void Dispose() => beats?.Dispose();
}
