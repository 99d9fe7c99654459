using Microsoft.Extensions.Logging.Abstractions;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Store;
using Rovett.Service.Diagnostics;
using Rovett.Service.Ledgers;
using Rovett.Service.Meters;
using Rovett.Storage.Homes;
using Rovett.Testing;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>Several lanes on one database.</summary>
public sealed class LaneTests : IAsyncLifetime
{
    static readonly string[] Spaces = ["main", "quay", "lock", "jetty"]; // on the four lanes, by their names

    readonly PostgresServer server = new();
    readonly ServiceClock clock = new(TimeProvider.System);
    readonly PostgresHome home;
    readonly LaneStores stores;
    readonly LedgerPump pump;

    public LaneTests()
    {
        home = new PostgresHome(server.NewDatabase());
        stores = new LaneStores(home.OpenHistory(4, static _ => { }));
        var recent = new RecentBySpace();
        var faults = new Faults(clock, NullLogger<Faults>.Instance);
        pump = new LedgerPump(stores.All, (store, link) => new Ledger(store, new LedgerOptions(), clock, recent, link: link),
            TimeSpan.FromMilliseconds(250), new LaneMeters(new ServiceMeters(clock, static () => [], faults)), faults);
    }

    public async ValueTask InitializeAsync()
    {
        foreach (var space in Spaces[1..]) await pump.Ask(new AddSpaceCommand(space, new byte[32]));
    }

    public ValueTask DisposeAsync()
    {
        pump.Dispose();
        stores.Dispose();
        home.Dispose();
        server.Dispose();
        return default;
    }

    [Fact]
    public async Task When_the_server_is_back_every_lane_finds_out_though_nobody_asks_about_its_spaces()
    {
        foreach (var space in Spaces) await pump.Ask(new ProbeCommand(space));
        server.Crash();
        foreach (var space in Spaces) await Should.ThrowAsync<Exception>(() => pump.Ask(new ProbeCommand(space)));
        pump.StoreFailing.ShouldBeTrue();
        server.Start();
        await Eventually.Holds(async () =>
        {
            try
            {
                await pump.Probe();
            }
            catch (Exception error) when (LedgerPump.IsStoreFailure(error))
            {
                // It is still starting.
            }
            return pump.StoreFailing;
        }, failing => !failing, "every lane writes again");
    }

    [Fact]
    public async Task A_step_of_the_clock_is_followed_on_every_lane()
    {
        long halfAnHourAgo = StoredTime.From(clock.GetUtcNow() - TimeSpan.FromMinutes(30)).Micros;
        var credential = new Identity(new UserId("mara"), [], halfAnHourAgo);
        foreach (var space in Spaces)
        {
            await pump.Ask(new IdentifyCommand(space, credential));
            await pump.Ask(new SignOutCommand(space, "mara"));
            await Should.ThrowAsync<ProblemException>(() => pump.Ask(new StandingCommand(space, credential)));
        }
        // The clock was an hour ahead when the sign-outs were noted: they move with it.
        var step = new ClockStep(-TimeSpan.FromHours(1), TimeSpan.FromMinutes(5));
        (await pump.Believe(step)).ShouldBe(step);
        foreach (var space in Spaces) (await pump.Ask(new StandingCommand(space, credential))).ShouldBeTrue(space);
    }
}
