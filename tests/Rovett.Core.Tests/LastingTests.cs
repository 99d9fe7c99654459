using System.Reflection;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Store;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;
using Shouldly;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>What waits for the disk and what need not.</summary>
public sealed class LastingTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-test-").FullName;
    readonly SqlLedgerStore store;
    readonly Noting noting;
    readonly Ledger ledger;

    public LastingTests()
    {
        store = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));
        var proxy = DispatchProxy.Create<ILedgerStore, Noting>();
        noting = (Noting)(object)proxy;
        noting.Store = store;
        ledger = new Ledger(proxy, new LedgerOptions(), TimeProvider.System, new RecentBySpace());
    }

    public void Dispose()
    {
        store.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    public class Noting : DispatchProxy
    {
        public ILedgerStore Store = null!;
        public List<string> Calls = [];

        protected override object? Invoke(MethodInfo? method, object?[]? args)
        {
            if (method!.Name is nameof(ILedgerStore.Begin)) Calls.Add((bool)args![0]! ? "begin" : "begin, unsynced");
            if (method.Name is nameof(ILedgerStore.Commit) or nameof(ILedgerStore.Sync)) Calls.Add(method.Name.ToLowerInvariant());
            try
            {
                return method.Invoke(Store, args);
            }
            catch (TargetInvocationException wrapped)
            {
                throw wrapped.InnerException!;
            }
        }
    }

    static IdentifyCommand Attach(long issued, params string[] roles) =>
        new("main", new Identity(new UserId("mara"), roles, issued));

    string Calls(params LedgerCommand[] commands)
    {
        noting.Calls.Clear();
        ledger.Process(commands);
        return string.Join(", ", noting.Calls);
    }

    [Fact]
    public void Only_a_newer_token_that_changes_nothing_does_not_wait_for_the_disk()
    {
        Calls(Attach(1, "engineer")).ShouldBe("begin, unsynced, commit, sync", "never seen before");
        Calls(Attach(2, "engineer")).ShouldBe("begin, unsynced, commit", "newer, and says the same");
        Calls(Attach(3, "engineer", "bridge")).ShouldBe("begin, unsynced, commit, sync", "a role more");
        Calls(Attach(4, "engineer")).ShouldBe("begin, unsynced, commit, sync", "a role less: no older token may bring it back");
        Calls(Attach(5, "engineer"), new ProbeCommand("main")).ShouldBe("begin, commit", "with others, as they are");
    }

    [Fact]
    public void What_was_not_synced_is_there_after_a_crash()
    {
        Calls(Attach(1, "engineer"));
        Calls(Attach(2, "engineer"));
        // As the files lie there when the process is gone from one moment to the next: nothing was closed or synced since.
        var left = Directory.CreateDirectory(Path.Combine(folder, "left")).FullName;
        foreach (var name in new[] { "history.db", "history.db-wal" }) File.Copy(Path.Combine(folder, name), Path.Combine(left, name));
        using var again = SqliteFiles.OpenHistory(Path.Combine(left, "history.db"));
        again.FindPerson(1, "mara")!.RolesIssuedAt.ShouldBe(2);
    }
}
