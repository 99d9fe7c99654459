using System.Reflection;
using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Storage.Sql;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>Sessions catching up from a real store, and how much is read for them.</summary>
public abstract class CatchUpTests : IDisposable
{
    readonly SqlLedgerStore store;
    readonly SqlHistory history;
    readonly Ledger ledger;
    readonly Counted counted;
    readonly RecentEntries recent = new RecentBySpace().Of("main"); // not the ledger's: nothing is in memory

    protected CatchUpTests(SqlLedgerStore store, SqlHistory history)
    {
        (this.store, this.history) = (store, history);
        ledger = new Ledger(store, new LedgerOptions(), TimeProvider.System, new RecentBySpace());
        counted = new Counted(history);
    }

    public virtual void Dispose()
    {
        history.Dispose();
        store.Dispose();
        GC.SuppressFinalize(this);
    }

    /// <summary>Counts the texts that are asked for.</summary>
    public sealed class Counted(IHistoryStore store) : IHistoryStore
    {
        public int Texts;
        public Action? AfterRead;

        public T Read<T>(Func<IHistoryRows, T> work)
        {
            var found = store.Read(rows =>
            {
                var proxy = DispatchProxy.Create<IHistoryRows, CountingRows>();
                ((CountingRows)(object)proxy).Rows = rows;
                ((CountingRows)(object)proxy).Of = this;
                return work(proxy);
            });
            AfterRead?.Invoke();
            return found;
        }
    }

    public class CountingRows : DispatchProxy
    {
        public IHistoryRows Rows = null!;
        public Counted Of = null!;

        protected override object? Invoke(MethodInfo? method, object?[]? args)
        {
            if (method!.Name == nameof(IHistoryRows.Texts)) Of.Texts += ((IReadOnlyList<long>)args![1]!).Count;
            return method.Invoke(Rows, args);
        }
    }

    T Ask<T>(LedgerCommand<T> command)
    {
        ledger.Process([command]);
        return command.Task.GetAwaiter().GetResult();
    }

    /// <summary>A session of somebody, at the beginning of everything.</summary>
    sealed class Behind
    {
        readonly Session session = new(TransportKind.LongPoll, new SessionLimits(), TimeSpan.Zero, static () => { });
        readonly SessionFeeder feeder;
        readonly ReadPlan plan;
        readonly byte[] buffer = new byte[100_000];

        public Behind(CatchUpTests of, string user)
        {
            of.Ask(new IdentifyCommand("main", new Identity(new UserId(user), ["crew"], 1)));
            plan = of.Ask(new PlanCommand("main", user))!;
            feeder = new SessionFeeder(new HistoryReader(of.counted), of.recent, of.ledger.Space("main").Cursors);
            var mark = new DispatchMark();
            session.Join(plan.Version, mark, [mark]);
            session.Open([], new Position(0));
        }

        /// <summary>Reads a page.</summary>
        /// <returns>What came.</returns>
        public string Page()
        {
            feeder.Page(session, plan);
            var text = Encoding.UTF8.GetString(buffer, 0, session.Drain(buffer, out _));
            session.Written(TimeSpan.Zero);
            return text;
        }
    }

    void Send(string to, int number)
    {
        Address.TryParse(to, out var address).ShouldBeNull();
        Ask(new SendCommand("main", new Draft([address], [], Encoding.UTF8.GetBytes($"\"type\":\"engine.check.due\",\"title\":\"no {number}.\""),
            new NotificationTraits("engine.check.due", null, ReceiptLevel.Totals, null)), null, false));
    }

    static List<string> Titles(string text) =>
        [.. text.Split("\"title\":\"").Skip(1).Select(part => part[..part.IndexOf('"', StringComparison.Ordinal)])];

    static IEnumerable<string> Numbers(int from, int count) => Enumerable.Range(from, count).Select(n => $"no {n}.");

    [Fact]
    public void What_is_read_for_one_is_not_read_for_another_who_is_behind_at_the_same_time()
    {
        foreach (var user in new[] { "mara", "oskar" }) Ask(new IdentifyCommand("main", new Identity(new UserId(user), ["crew"], 1)));
        for (int i = 0; i < 100; i++) Send("role:crew", i);
        Behind mara = new(this, "mara"), oskar = new(this, "oskar");
        Titles(mara.Page()).ShouldBe(Numbers(0, 8)); // alone as yet
        Titles(oskar.Page()).ShouldBe(Numbers(0, 8));
        counted.Texts.ShouldBe(16);
        Titles(mara.Page()).ShouldBe(Numbers(8, 12));
        counted.Texts.ShouldBe(28);
        Titles(oskar.Page()).ShouldBe(Numbers(8, 12));
        counted.Texts.ShouldBe(28);
        Titles(oskar.Page()).ShouldBe(Numbers(20, 16));
        Titles(mara.Page()).ShouldBe(Numbers(20, 16));
        counted.Texts.ShouldBe(44);
    }

    [Fact]
    public void What_was_erased_meanwhile_is_read_again()
    {
        foreach (var user in new[] { "mara", "oskar" }) Ask(new IdentifyCommand("main", new Identity(new UserId(user), ["crew"], 1)));
        for (int i = 0; i < 100; i++) Send("role:crew", i);
        Behind mara = new(this, "mara"), oskar = new(this, "oskar");
        mara.Page();
        oskar.Page();
        mara.Page();
        counted.Texts.ShouldBe(28);
        recent.Clear();
        Titles(oskar.Page()).ShouldBe(Numbers(8, 12));
        counted.Texts.ShouldBe(40);
    }

    [Fact]
    public void What_was_read_before_an_erasure_is_not_shared_after_it()
    {
        foreach (var user in new[] { "mara", "oskar" }) Ask(new IdentifyCommand("main", new Identity(new UserId(user), ["crew"], 1)));
        for (int i = 0; i < 100; i++) Send("role:crew", i);
        Behind mara = new(this, "mara"), oskar = new(this, "oskar");
        mara.Page();
        oskar.Page();
        counted.AfterRead = recent.Clear; // between reading the page and sharing it
        mara.Page();
        counted.AfterRead = null;
        counted.Texts.ShouldBe(28);
        Titles(oskar.Page()).ShouldBe(Numbers(8, 12));
        counted.Texts.ShouldBe(40);
    }

    [Fact]
    public void Others_notifications_between_are_nobody_elses()
    {
        foreach (var user in new[] { "mara", "oskar" }) Ask(new IdentifyCommand("main", new Identity(new UserId(user), ["crew"], 1)));
        // Most of a stretch, less than half of one, and both in one page.
        for (int i = 0; i < 60; i++) Send(i % 3 == 2 ? "user:oskar" : "user:mara", i);
        for (int i = 60; i < 120; i++) Send(i % 3 == 2 ? "user:mara" : "user:oskar", i);
        Behind mara = new(this, "mara"), oskar = new(this, "oskar");
        List<string> hers = [], his = [];
        for (int page = 0; page < 6; page++)
        {
            hers.AddRange(Titles(mara.Page()));
            his.AddRange(Titles(oskar.Page()));
        }
        hers.ShouldBe(Enumerable.Range(0, 120).Where(i => i < 60 ? i % 3 != 2 : i % 3 == 2).Select(i => $"no {i}."));
        his.ShouldBe(Enumerable.Range(0, 120).Where(i => i < 60 ? i % 3 == 2 : i % 3 != 2).Select(i => $"no {i}."));
    }

    [Fact]
    public void What_is_about_no_notification_is_passed_over()
    {
        foreach (var user in new[] { "mara", "oskar" }) Ask(new IdentifyCommand("main", new Identity(new UserId(user), ["crew"], 1)));
        for (int i = 0; i < 60; i++)
        {
            Send("role:crew", i);
            // Gaining or losing a role is an entry in the history, without a notification.
            if (i % 2 == 0) Ask(new IdentifyCommand("main", new Identity(new UserId("teo"), i % 4 == 0 ? ["crew"] : [], 2 + i)));
        }
        ledger.Space("main").Head.ShouldBe(60 + 30 + 2);
        var mara = new Behind(this, "mara");
        Enumerable.Range(0, 3).SelectMany(_ => Titles(mara.Page())).ShouldBe(Numbers(0, 8 + 12 + 16));
    }

    [Fact]
    public void One_that_reached_each_by_another_address_says_so_to_each()
    {
        foreach (var user in new[] { "mara", "oskar" }) Ask(new IdentifyCommand("main", new Identity(new UserId(user), ["crew"], 1)));
        for (int i = 0; i < 30; i++)
        {
            Ask(new SendCommand("main", new Draft([Address.User(new UserId("mara")), Address.User(new UserId("oskar"))], [],
                Encoding.UTF8.GetBytes($"\"title\":\"no {i}.\""), new NotificationTraits("test", null, ReceiptLevel.Totals, null)), null, false));
        }
        Behind mara = new(this, "mara"), oskar = new(this, "oskar");
        for (int page = 0; page < 2; page++)
        {
            mara.Page().ShouldNotContain("user:oskar");
            var his = oskar.Page();
            his.ShouldNotContain("user:mara");
            his.Split("\"to\":\"user:oskar\"").Length.ShouldBeGreaterThan(8);
        }
        counted.Texts.ShouldBe(8 + 8 + 12);
    }
}
