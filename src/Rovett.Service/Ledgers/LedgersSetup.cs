using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Service.Diagnostics;
using Rovett.Service.Options;
using Rovett.Storage.Homes;
using Rovett.Storage.Sql;

namespace Rovett.Service.Ledgers;

/// <summary>Registers the store, the ledger on its thread, and what works beside it.</summary>
static class LedgersSetup
{
    public static IServiceCollection AddLedgers(this IServiceCollection services) => services
        .AddSingleton<Faults>()
        .AddSingleton(OpenStore)
        .AddSingleton(p => p.GetRequiredService<IStoreHome>().ReadHistory())
        .AddSingleton<IHistoryStore>(p => p.GetRequiredService<SqlHistory>())
        .AddSingleton<HistoryReader>()
        .AddSingleton<InboxReader>()
        .AddSingleton(p => new RecentBySpace((long)p.GetRequiredService<RovettOptions>().RecentMebibytes << 20))
        .AddSingleton(StartLedger)
        .AddSingleton<AckBuffer>()
        .AddSingleton<MarkSteps>();

    static SqlLedgerStore OpenStore(IServiceProvider p)
    {
        var (options, clock, faults) =
            (p.GetRequiredService<RovettOptions>(), p.GetRequiredService<ServiceClock>(), p.GetRequiredService<Faults>());
        var store = p.GetRequiredService<IStoreHome>().OpenHistory(failed: e => faults.Thrown(null, "checkpoint", e));
        clock.Restore(store.Clock, options.PlausibleAbsence);
        clock.SettleStanding(store);
        if (clock.RetentionHeldBack > TimeSpan.Zero)
        {
            p.GetRequiredService<ILogger<ServiceClock>>().LogWarning("The clock is {Days:0.0} days ahead of the last start's. Retention " +
                "waits: it follows after 24 hours, or at once by 'rovett clock --confirm'", clock.RetentionHeldBack.TotalDays);
        }
        return store;
    }

    static LedgerPump StartLedger(IServiceProvider p)
    {
        var options = p.GetRequiredService<RovettOptions>();
        var faults = p.GetRequiredService<Faults>();
        var ledger = new Ledger(p.GetRequiredService<SqlLedgerStore>(), new LedgerOptions
        {
            Newcomers = options.NewcomersLookBack,
            StrictAddresses = options.StrictAddresses,
            RolesFrom = Enum.Parse<RolesFrom>(options.RolesFrom, ignoreCase: true),
            KeepFor = options.KeepForSpan,
            KeepCount = options.KeepCount > 0 ? options.KeepCount : null,
            KeepsFullReceipts = options.FullReceipts.Count > 0,
            ReconnectWindow = TimeSpan.FromSeconds(options.ReconnectWindowSeconds),
            PresenceGrace = TimeSpan.FromSeconds(options.PresenceGraceSeconds),
        }, p.GetRequiredService<ServiceClock>(), p.GetRequiredService<RecentBySpace>(), p.GetRequiredService<ILedgerObserver>(), faults);
        return new LedgerPump(ledger, TimeSpan.FromMilliseconds(options.MaxSendWaitMs), faults);
    }
}
