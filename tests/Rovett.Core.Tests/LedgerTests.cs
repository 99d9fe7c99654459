using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Ledger;
using Rovett.Core.Marks;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>The ledger over a real store, without the service around it.</summary>
public sealed class LedgerTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-ledger-").FullName;
    readonly LedgerOptions options = new() { KeepCount = 10 };
    SqlLedgerStore store = null!;
    Ledger.Ledger ledger = null!;

    public LedgerTests() => Start();

    void Start()
    {
        store = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));
        ledger = new Ledger.Ledger(store, options, TimeProvider.System, new RecentBySpace());
    }

    void Restart()
    {
        store.Dispose();
        Start();
    }

    public void Dispose()
    {
        store.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    T Ask<T>(LedgerCommand<T> command)
    {
        ledger.Process([command]);
        return command.Task.GetAwaiter().GetResult();
    }

    NotificationId Send(Address to, string subject) =>
        Ask(new SendCommand("main", new Draft([to], [], Encoding.UTF8.GetBytes($"\"subject\":\"{subject}\""), new NotificationTraits("test", subject, ReceiptLevel.Totals, null)), null, false)).Id;

    long Unread(string user, string role) => Ask(new AttachCommand("main", new Identity(new UserId(user), [role], 1), "http", null)).Totals.Unread;

    TotalsBy Mark(MarkVerb verb, MarkSelector selector) => Ask(new MarkCommand("main", "mara", verb, selector, "desk", null));

    [Fact]
    public void Unread_counts_are_exact_when_what_was_read_is_trimmed_and_nobody_remembers_when()
    {
        Unread("mara", "engineer").ShouldBe(0);
        Send(Address.Role("engineer"), "a");
        var read = Send(Address.Role("engineer"), "b");
        Send(Address.Role("engineer"), "c");
        Mark(MarkVerb.Read, new MarkSelector([read], null, null, false)).Totals.Unread.ShouldBe(2);
        Restart();
        for (int round = 0; round < 3; round++)
        {
            for (int i = 0; i < 12; i++) Send(Address.User(new UserId("teo")), "other");
            Ask(new TrimCommand("main")); // in the end also what says that it was trimmed
        }
        Restart();
        Unread("mara", "engineer").ShouldBe(0);
        Send(Address.Role("engineer"), "d");
        Unread("mara", "engineer").ShouldBe(1);
    }

    [Theory]
    [InlineData(MarkVerb.Read)]
    [InlineData(MarkVerb.Unread)]
    public void Marking_much_is_done_in_parts_and_comes_to_the_same(MarkVerb verb)
    {
        var other = new LedgerOptions { KeepCount = 100_000 };
        ledger = new Ledger.Ledger(store, other, TimeProvider.System, new RecentBySpace());
        Unread("mara", "engineer");
        for (int i = 0; i < 300; i++) Send(i % 3 == 0 ? Address.User(new UserId("mara")) : Address.Role("engineer"), i % 2 == 0 ? "even" : "odd");
        if (verb == MarkVerb.Unread) Mark(MarkVerb.Read, new MarkSelector(null, null, "even", false)).Totals.Unread.ShouldBe(150);
        var selector = new MarkSelector(null, null, verb == MarkVerb.Read ? "even" : null, verb == MarkVerb.Unread);
        MarkProgress? from = null;
        int steps = 0;
        long before = verb == MarkVerb.Read ? 300 : 150, last = before;
        for (; ; )
        {
            var step = new MarkCommand("main", "mara", verb, selector, "desk", null, null, 20, from);
            Send(Address.User(new UserId("teo")), "between"); // whatever comes between
            long unread = Ask(step).Totals.Unread;
            Math.Abs(unread - last).ShouldBeLessThanOrEqualTo(40);
            (last, steps) = (unread, steps + 1);
            if ((from = step.Rest) is null) break;
        }
        steps.ShouldBeGreaterThan(4);
        last.ShouldBe(verb == MarkVerb.Read ? 150 : 300);
        Unread("mara", "engineer").ShouldBe(last);
        Restart();
        Unread("mara", "engineer").ShouldBe(last);
    }
}
