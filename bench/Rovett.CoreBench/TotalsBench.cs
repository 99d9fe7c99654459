using BenchmarkDotNet.Attributes;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.CoreBench;

/// <summary>A user's unread total: 20 logs of <see cref="Length"/> notifications each, 10,000 of which were read one by one.</summary>
public class TotalsBench
{
    const int Logs = 20, ReadInEach = 500;
    readonly string folder = Directory.CreateTempSubdirectory("rovett-corebench-").FullName;
    SqlLedgerStore store = null!;
    Ledger ledger = null!;
    SpaceState state = null!;
    UserState user = null!;

    /// <summary>Notifications in each log.</summary>
    [Params(100_000, 1_000_000)]
    public int Length { get; set; }

    /// <summary>Makes the store.</summary>
    [GlobalSetup]
    public void Setup()
    {
        var path = Path.Combine(folder, $"history-{Length}.db");
        var roles = Enumerable.Range(0, Logs).Select(i => $"role{i}").ToList();
        using (var made = SqliteFiles.OpenHistory(path))
        {
            var first = NewLedger(made);
            Ask(first, new IdentifyCommand("main", new Identity(new UserId("mara"), roles, 1)));
            foreach (var role in roles)
            {
                Ask(first, new SendCommand("main",
                    new Draft([Parse("role:" + role)], [], [], new NotificationTraits("t", null, ReceiptLevel.Totals, null)), null, false));
            }
        }
        Fill(path);
        store = SqliteFiles.OpenHistory(path);
        ledger = NewLedger(store);
        Ask(ledger, new ReadSome(ReadInEach));
        state = ledger.Space("main");
        user = state.Find("mara")!;
        long unread = user.CountUnread();
        if (unread != (long)Logs * Length - Logs * ReadInEach) throw new InvalidOperationException($"{unread} unread");
    }

    /// <summary>Removes it.</summary>
    [GlobalCleanup]
    public void Cleanup()
    {
        store.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    /// <summary>Counted from what is in memory.</summary>
    [Benchmark]
    public long InMemory() => user.CountUnread();

    /// <summary>A user nobody touched since the start.</summary>
    [Benchmark]
    public long FirstTouch()
    {
        state.Forget(user);
        user = state.Find("mara")!;
        state.UserLogs.Ensure(user);
        return user.CountUnread();
    }

    /// <summary>The very first user of these logs since the start.</summary>
    [Benchmark]
    public long FirstOfAll()
    {
        var fresh = NewLedger(store).Space("main");
        var found = fresh.Find("mara")!;
        fresh.UserLogs.Ensure(found);
        return found.CountUnread();
    }

    void Fill(string path)
    {
        using var sqlite = SqliteFiles.Open(path, readOnly: false);
        void Run(string sql)
        {
            using var command = sqlite.CreateCommand();
            command.CommandText = sql;
            command.CommandTimeout = 0;
            command.ExecuteNonQuery();
        }
        Run("PRAGMA synchronous=OFF; BEGIN");
        // Log after log; their positions lie one after the other, as if role after role had been written to.
        Run($"""
            WITH RECURSIVE n(i) AS (SELECT 2 UNION ALL SELECT i+1 FROM n WHERE i<{Length})
            INSERT INTO log_item (log, ordinal, position, subject, type) SELECT l.id, n.i, 1000+(l.id*{Length})+n.i, NULL, 1 FROM log l, n WHERE l.key LIKE '+role:%' ORDER BY l.id, n.i
            """);
        Run($"INSERT INTO entry SELECT key+{1000L + ((Logs + 30L) * Length)}, time+1, kind, NULL, body, addressing, placements, type, " +
            $"subject, receipts, take_for FROM entry ORDER BY key DESC LIMIT 1");
        Run("COMMIT; PRAGMA wal_checkpoint(TRUNCATE)");
    }

    static Address Parse(string text) => Address.TryParse(text, out var address) is null ? address : throw new FormatException(text);

    static Ledger NewLedger(SqlLedgerStore store) => new(store, new LedgerOptions(), TimeProvider.System, new RecentBySpace());

    internal static T Ask<T>(Ledger ledger, LedgerCommand<T> command)
    {
        ledger.Process([command]);
        return command.Task.GetAwaiter().GetResult();
    }

    /// <summary>Reads single notifications, evenly spread.</summary>
    sealed class ReadSome(int each) : LedgerCommand<bool>("main")
    {
        internal override void Execute(Ledger ledger)
        {
            var space = ledger.Space(Space);
            var mara = space.Find("mara")!;
            foreach (var log in space.UserLogs.Ensure(mara))
            {
                if (log.Log.Head < each) continue;
                long step = log.Log.Head / each;
                MarkOperation.Apply(ledger, space, mara, log, [.. Enumerable.Range(1, each).Select(i => ((i * step) - 1, i * step))],
                    MarkVerb.Read, "desk", ledger.Now);
            }
        }
    }
}
