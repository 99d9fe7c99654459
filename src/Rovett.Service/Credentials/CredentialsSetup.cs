using Rovett.Core.Ledgers;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Service.Options;
using Rovett.Service.Outbound;
using Rovett.Storage.Access;
using Rovett.Storage.Homes;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Credentials;

/// <summary>Registers API keys, signing keys, tokens, tickets and operators.</summary>
static class CredentialsSetup
{
    static readonly TimeSpan KeySetsLookedAtEvery = TimeSpan.FromSeconds(15);

    public static IServiceCollection AddCredentials(this IServiceCollection services) => services
        .AddSingleton(p => p.GetRequiredService<IStoreHome>().OpenAccess())
        .AddSingleton(p => p.GetRequiredService<IStoreHome>().OpenTickets())
        .AddSingleton(p => new SpaceKeeper(p.GetRequiredService<AccessStore>(), p.GetRequiredService<LaneStores>().First.Epoch,
            p.GetRequiredService<TimeProvider>()))
        .AddSingleton(p => new KeySets(p.GetRequiredService<OutboundGuard>(),
            Path.Combine(p.GetRequiredService<RovettOptions>().Data, SqliteFiles.KeySetsName),
            p.GetRequiredService<ServiceClock>(), p.GetRequiredService<ILogger<KeySets>>()))
        .AddSingleton(StartNews)
        .AddSingleton<SpaceChanges>()
        .AddSingleton<ApiKeys>()
        .AddSingleton<SigningKeys>()
        .AddSingleton<StandIns>()
        .AddSingleton<Tokens>()
        .AddSingleton<Tickets>()
        .AddSingleton<Operators>()
        .AddSingleton(p => new KeySetRounds(new Repeating("key sets", KeySetsLookedAtEvery, p.GetRequiredService<TimeProvider>(),
            p.GetRequiredService<Faults>(), p.GetRequiredService<SigningKeys>().RefreshWhenDue)));

    static AccessNews StartNews(IServiceProvider p)
    {
        p.GetRequiredService<LaneStores>(); // brings the database to the present schema
        return new AccessNews(p.GetRequiredService<IStoreHome>().Watch(), p.GetRequiredService<Faults>());
    }

    /// <summary>Hears of credentials, settings and policies that another process changed.</summary>
    public static void FollowCredentials(this IServiceProvider provider, AccessNews news)
    {
        var (signing, changes) = (provider.GetRequiredService<SigningKeys>(), provider.GetRequiredService<SpaceChanges>());
        news.On(AccessKinds.ApiKeys, provider.GetRequiredService<ApiKeys>().Refresh);
        news.On(AccessKinds.SigningKeys, signing.Refresh);
        news.On(AccessKinds.KeySets, signing.FetchAgain);
        news.On(AccessKinds.Settings, changes.ReadSettings);
        news.On(AccessKinds.Policies, changes.ReadPolicies);
        news.On(AccessKinds.Types, changes.ReadTypes);
    }
}

/// <summary>Looks at key sets again and again.</summary>
sealed class KeySetRounds(Repeating rounds) : IDisposable
{
    public void Dispose() => rounds.Dispose();
}
