using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Wire;
using Rovett.Storage.Postgres;
using Rovett.Storage.Sql;
using Rovett.Testing.Servers;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>How often the ledger waits for a database. The first time something is asked about a space, an address or an audience is
/// not counted.</summary>
public sealed class RoundTripTests : IClassFixture<PostgresServer>, IDisposable
{
    readonly PostgresHold hold;
    readonly PostgresWriter sql;
    readonly SqlLedgerStore store;
    Ledger ledger;

    public RoundTripTests(PostgresServer server)
    {
        var database = server.NewDatabase() + ";Pooling=false";
        PostgresHistory.Open(database).Dispose();
        hold = new PostgresHold(database);
        sql = new PostgresWriter(database, hold);
        store = new SqlLedgerStore(sql);
        ledger = New();
    }

    public void Dispose()
    {
        store.Dispose();
        hold.Dispose();
    }

    Ledger New() => new(store, new LedgerOptions(), TimeProvider.System, new RecentBySpace());

    /// <summary>Carries commands out in one commit.</summary>
    /// <returns>How often the database was waited for.</returns>
    long Trips(params LedgerCommand[] batch)
    {
        long before = sql.RoundTrips;
        ledger.Process(batch);
        return sql.RoundTrips - before;
    }

    static Identity Of(string user) => new(new UserId(user), ["crew"], 1);

    static AttachCommand Attach(string user) =>
        new("main", Of(user), "desk", new Session(TransportKind.WebSocket, new SessionLimits(), TimeSpan.Zero, static () => { }));

    static SendCommand Send(Address to, string? key = null) =>
        new("main", new Draft([to], [], Encoding.UTF8.GetBytes("\"title\":\"t\""), new NotificationTraits("t", null, ReceiptLevel.Totals, null)),
            key is null ? null : new Idempotency(key, new byte[32]), false);

    [Fact]
    public void A_batch_of_sends_waits_once_and_once_more_where_repeats_must_be_recognised()
    {
        Trips(Attach("mara"), Send(Address.Role("crew")));
        Trips(Send(Address.Role("crew"))).ShouldBe(1);
        Trips([.. Enumerable.Range(0, 32).Select(_ => Send(Address.Role("crew")))]).ShouldBe(1);
        Trips([.. Enumerable.Range(0, 32).Select(n => Send(Address.Role("crew"), $"key {n}"))]).ShouldBe(2);
        Trips([.. Enumerable.Range(0, 32).Select(n => Send(Address.User(new UserId($"person{n}"))))]).ShouldBeLessThanOrEqualTo(3);
    }

    [Fact]
    public async Task However_many_users_come_back_to_a_service_that_does_not_know_them_they_are_loaded_at_once()
    {
        const int People = 40;
        LedgerCommand[] All(Func<string, LedgerCommand> make) => [.. Enumerable.Range(0, People).Select(n => make($"person{n}"))];
        Trips(All(Attach));
        for (int i = 0; i < 20; i++) Trips(Send(Address.Role("crew")));
        for (int i = 0; i < 5; i++) Trips([.. Enumerable.Range(0, People).Select(n => Send(Address.User(new UserId($"person{n}"))))]);
        Trips(All(user => new MarkCommand("main", user, MarkVerb.Read, new MarkSelector(null, null, null, true), "desk", null)));
        for (int i = 0; i < 5; i++) Trips(Send(Address.Role("crew")));

        ledger = New();
        Trips(Attach("person0")); // the space and the audience are known from here on
        Trips(Attach("person1")).ShouldBeLessThanOrEqualTo(3);
        var rest = All(Attach)[2..];
        Trips(rest).ShouldBeLessThanOrEqualTo(3);
        foreach (var attach in rest.Cast<AttachCommand>())
        {
            (await attach.Task).Totals.Unread.ShouldBe(5);
        }
    }

    [Fact]
    public async Task A_user_with_mutes_costs_one_more_however_many_logs_and_mutes_there_are()
    {
        foreach (var user in new[] { "mara", "teo" })
        {
            Trips(Attach(user));
            Trips(new MuteCommand("main", user, true, "t", true));
            Trips(new MuteCommand("main", user, true, "u", true));
            Trips(new MuteCommand("main", user, false, "berth/4", true));
        }
        for (int i = 0; i < 3; i++) Trips(Send(Address.Role("crew")), Send(Address.User(new UserId("mara"))));

        ledger = New();
        Trips(Attach("teo"), Send(Address.Role("crew")));
        var attach = Attach("mara");
        Trips(attach).ShouldBeLessThanOrEqualTo(4);
        (await attach.Task).Totals.Unread.ShouldBe(0);
    }
}
