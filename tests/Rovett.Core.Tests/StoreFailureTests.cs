using System.Reflection;
using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Ledger;
using Rovett.Core.Marks;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>A commit that fails: nobody sees anything of it, everybody asked is told, and the next one is right.</summary>
public sealed class StoreFailureTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-failure-").FullName;
    readonly SqlLedgerStore store;
    readonly Failing failing;
    readonly Ledger.Ledger ledger;
    readonly Session session;
    readonly byte[] buffer = new byte[64 * 1024];

    public StoreFailureTests()
    {
        store = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));
        var proxy = DispatchProxy.Create<ILedgerStore, Failing>();
        failing = (Failing)(object)proxy;
        failing.Store = store;
        ledger = new Ledger.Ledger(proxy, new LedgerOptions(), TimeProvider.System, new RecentBySpace());
        Session? made = null;
        Ask(new AttachCommand("main", Mara(["engineer"], 1), "desk", info => made = new Session(TransportKind.Sse, new SessionLimits(), info.PlanVersion, new DispatchMark(), info.Marks, TimeSpan.Zero, () => { })));
        session = made!;
        session.Open([], new Position(1));
        session.IsLive.ShouldBeTrue("nothing was missed");
        Drain();
    }

    public void Dispose()
    {
        store.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    public class Failing : DispatchProxy
    {
        public ILedgerStore Store = null!;
        public string? FailAt;

        protected override object? Invoke(MethodInfo? method, object?[]? args)
        {
            if (method!.Name == FailAt || (FailAt == "everything" && method.Name != "Rollback")) throw new IOException("No space left on device");
            try
            {
                return method.Invoke(Store, args);
            }
            catch (TargetInvocationException inner)
            {
                throw inner.InnerException!;
            }
        }
    }

    static Identity Mara(string[]? roles, long issuedAt) => new(new UserId("mara"), roles, issuedAt);

    T Ask<T>(LedgerCommand<T> command)
    {
        ledger.Process([command]);
        return command.Task.GetAwaiter().GetResult();
    }

    static SendCommand Send(string title) => new("main", new Draft([Address.Role("engineer")], [], Encoding.UTF8.GetBytes($"\"title\":\"{title}\""), new NotificationTraits("test", null, ReceiptLevel.Totals, null)), null, false);

    string Drain()
    {
        var text = new StringBuilder();
        while (session.Drain(buffer, out _) is var count and > 0) text.Append(Encoding.UTF8.GetString(buffer, 0, count));
        return text.ToString();
    }

    [Theory]
    [InlineData("Commit")]
    [InlineData("AppendEntry")]
    [InlineData("AppendItem")]
    [InlineData("Begin")]
    public void Nothing_of_a_failed_commit_is_seen_and_the_next_one_is_right(string at)
    {
        Ask(Send("first")).Position.Value.ShouldBe(2);
        Drain().ShouldContain("first");
        failing.FailAt = at;
        LedgerCommand[] batch = [Send("lost one"), new MarkCommand("main", "mara", MarkVerb.Read, new MarkSelector(null, null, null, true), "desk", null), Send("lost two")];
        ledger.Process(batch);
        ((SendCommand)batch[0]).Task.Exception!.InnerException.ShouldBeOfType<IOException>();
        ((MarkCommand)batch[1]).Task.IsFaulted.ShouldBeTrue();
        ((SendCommand)batch[2]).Task.IsFaulted.ShouldBeTrue();
        Drain().ShouldBeEmpty();

        failing.FailAt = null;
        Ask(Send("second")).Position.Value.ShouldBe(3); // no hole
        var seen = Drain();
        seen.ShouldContain("second");
        seen.ShouldNotContain("lost");
        seen.ShouldContain("\"rev\":0         ,\"unread\":2         }");
        var plan = Ask(new PlanCommand("main", "mara"))!;
        (plan.Totals.Totals.Unread, plan.Head.Value).ShouldBe((2, 3));
    }

    [Fact]
    public void A_store_that_answers_nothing_at_all_ends_the_sessions_with_a_word()
    {
        failing.FailAt = "everything";
        var send = Send("lost");
        ledger.Process([send]);
        send.Task.IsFaulted.ShouldBeTrue();
        Drain().ShouldContain("\"reason\":\"store-unavailable\"");
        failing.FailAt = null;
        Ask(Send("first")).Position.Value.ShouldBe(2);
    }

    [Fact]
    public async Task A_refused_command_does_not_take_its_batch_with_it()
    {
        LedgerCommand[] batch = [Send("before"), new MarkCommand("main", "mara", MarkVerb.Read, new MarkSelector([NotificationId.New(DateTimeOffset.UnixEpoch)], null, null, false), "desk", null), Send("after")];
        ledger.Process(batch);
        ((MarkCommand)batch[1]).Task.Exception!.InnerException.ShouldBeOfType<ProblemException>();
        (await ((SendCommand)batch[0]).Task).Position.Value.ShouldBe(2);
        (await ((SendCommand)batch[2]).Task).Position.Value.ShouldBe(3);
        Drain().ShouldContain("after");
    }

    [Fact]
    public void A_change_of_roles_whose_commit_failed_did_not_happen()
    {
        failing.FailAt = "Commit";
        var attach = new AttachCommand("main", Mara(["bridge"], 2), "http", null);
        ledger.Process([attach]);
        attach.Task.IsFaulted.ShouldBeTrue();
        failing.FailAt = null;
        Ask(Send("still hers"));
        Drain().ShouldContain("still hers");
        Ask(new AttachCommand("main", Mara(["bridge"], 2), "http", null)).Channels.All.ShouldBe(["user:mara", "role:bridge", "everyone"]);
        Drain().ShouldContain("event: channels");
        Ask(Send("not hers"));
        Drain().ShouldBeEmpty();
    }
}
