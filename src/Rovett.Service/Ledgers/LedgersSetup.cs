using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Visibility;
using Rovett.Service.Diagnostics;
using Rovett.Service.Meters;
using Rovett.Service.Options;
using Rovett.Storage.Homes;
using Rovett.Storage.Sql;

namespace Rovett.Service.Ledgers;

/// <summary>The stores of the lanes: one history, on a connection each.</summary>
sealed record LaneStores(IReadOnlyList<SqlLedgerStore> All) : IDisposable
{
    /// <summary>The first one's, which also has what is about no space.</summary>
    public SqlLedgerStore First => All[0];

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (var one in All) one.Dispose();
    }
}

/// <summary>Registers the store, the ledger on its thread, and what works beside it.</summary>
static class LedgersSetup
{
    public static IServiceCollection AddLedgers(this IServiceCollection services) => services
        .AddSingleton<Faults>()
        .AddSingleton(OpenStores)
        .AddSingleton(p => p.GetRequiredService<IStoreHome>().ReadHistory())
        // Not registered by its interface too: it would be disposed twice, the first time before its users.
        .AddSingleton(p => new HistoryReader(p.GetRequiredService<SqlHistory>()))
        .AddSingleton(p => new InboxReader(p.GetRequiredService<SqlHistory>()))
        .AddSingleton(p => new RecentBySpace((long)p.GetRequiredService<RovettOptions>().RecentMebibytes << 20))
        .AddSingleton<Agendas>()
        .AddSingleton(StartLedger)
        .AddSingleton<AckBuffer>()
        .AddSingleton<MarkSteps>();

    static LaneStores OpenStores(IServiceProvider p)
    {
        var (options, clock, faults) =
            (p.GetRequiredService<RovettOptions>(), p.GetRequiredService<ServiceClock>(), p.GetRequiredService<Faults>());
        var stores = new LaneStores(
            p.GetRequiredService<IStoreHome>().OpenHistory(options.DatabaseLanes, failed: e => faults.Thrown(null, "upkeep", e)));
        var store = stores.First;
        clock.Restore(store.Clock, options.PlausibleAbsence);
        // Of several nodes none knows whether the others were away as well.
        if (options.NodeUrl is null) clock.SettleStanding(store);
        if (clock.RetentionHeldBack > TimeSpan.Zero)
        {
            p.GetRequiredService<ILogger<ServiceClock>>().LogWarning("The clock is {Days:0.0} days ahead of the last start's. Retention " +
                "waits: it follows after 24 hours, or at once by 'rovett clock --confirm'", clock.RetentionHeldBack.TotalDays);
        }
        return stores;
    }

    static LedgerOptions Settings(RovettOptions options) => new()
    {
        Newcomers = options.NewcomersLookBack,
        StrictAddresses = options.StrictAddresses,
        RolesFrom = Enum.Parse<RolesFrom>(options.RolesFrom, ignoreCase: true),
        KeepFor = options.KeepForSpan,
        KeepCount = options.KeepCount > 0 ? options.KeepCount : null,
        KeepsFullReceipts = options.FullReceipts.Count > 0,
        ReconnectWindow = TimeSpan.FromSeconds(options.ReconnectWindowSeconds),
        ComeBackWithinMs = options.ComeBackWithinMs,
        PresenceGrace = TimeSpan.FromSeconds(options.PresenceGraceSeconds),
    };

    static LedgerPump StartLedger(IServiceProvider p)
    {
        var options = p.GetRequiredService<RovettOptions>();
        var faults = p.GetRequiredService<Faults>();
        var settings = new OptionsInForce(Settings(options));
        options.Changed += () => settings.Now = Settings(options);
        return new LedgerPump(p.GetRequiredService<LaneStores>().All, (store, link) => new Ledger(store, settings,
            p.GetRequiredService<ServiceClock>(), p.GetRequiredService<RecentBySpace>(), p.GetRequiredService<ILedgerObserver>(), faults,
            p.GetRequiredService<Agendas>(), link, p.GetService<IAnswerGate>()),
            TimeSpan.FromMilliseconds(options.MaxSendWaitMs), p.GetRequiredService<LaneMeters>(), faults);
    }
}
