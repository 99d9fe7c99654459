using System.Text;
using BenchmarkDotNet.Attributes;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Notifications;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.CoreBench;

/// <summary>One session that is far behind, from the store to its bytes; without a socket.</summary>
public class CatchUpBench
{
    const int Behind = 50_000;
    readonly string folder = Directory.CreateTempSubdirectory("rovett-corebench-").FullName;
    readonly byte[] buffer = new byte[16 * 1024];
    readonly byte[] body = Encoding.UTF8.GetBytes(
        $"\"type\":\"engine.check.due\",\"title\":\"Turnstone: bow thruster check due\",\"data\":{{\"pad\":\"{new string('x', 300)}\"}}");
    readonly List<AckedRun> acked = [];
    SqlLedgerStore store = null!;
    SqlHistory history = null!;
    CursorSeal cursors = null!;
    ReadPlan plan = null!;

    /// <summary>Stores 50,000 notifications of a role.</summary>
    [GlobalSetup]
    public void Setup()
    {
        var path = Path.Combine(folder, "history.db");
        store = SqliteFiles.OpenHistory(path);
        history = SqliteFiles.ReadHistory(path);
        var ledger = new Ledger(store, new LedgerOptions(), TimeProvider.System, new RecentBySpace());
        if (Address.TryParse("role:crew", out var crew) is { } wrong) throw new FormatException(wrong);
        TotalsBench.Ask(ledger, new IdentifyCommand("main", new Identity(new UserId("mara"), ["crew"], 1)));
        for (int i = 0; i < Behind; i += 1000)
        {
            var batch = new List<LedgerCommand>(1000);
            for (int k = 0; k < 1000; k++)
            {
                batch.Add(new SendCommand("main",
                    new Draft([crew], [], body, new NotificationTraits("engine.check.due", null, ReceiptLevel.Totals, null)), null, false));
            }
            ledger.Process(batch);
        }
        var state = ledger.Space("main");
        cursors = state.Cursors;
        plan = TotalsBench.Ask(ledger, new PlanCommand("main", "mara"))!;
        spaceId = state.Id;
    }

    int spaceId;

    /// <summary>Removes the store.</summary>
    [GlobalCleanup]
    public void Cleanup()
    {
        history.Dispose();
        store.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    /// <summary>50,000 notifications read, framed and acknowledged 128 at a time.</summary>
    [Benchmark(OperationsPerInvoke = Behind)]
    public long UntilLive()
    {
        var mark = new DispatchMark();
        var session = new Session(TransportKind.WebSocket, new SessionLimits(), TimeSpan.Zero, static () => { });
        session.Join(plan.Version, mark, [mark]);
        var feeder = new SessionFeeder(new HistoryReader(history), new RecentBySpace(0).Of("bench"), cursors);
        session.Open([], new Position(0));
        long bytes = 0;
        while (session.Next().Need == SessionNeed.Page)
        {
            feeder.Page(session, plan);
            while (session.Drain(buffer, out _) is var count and > 0)
            {
                bytes += count;
                session.Written(TimeSpan.Zero);
            }
            acked.Clear();
            session.Acknowledge(new Position(session.Through), null, TimeSpan.Zero, acked);
        }
        if (session.TotalSent != Behind) throw new InvalidOperationException($"{session.TotalSent} of {Behind} were sent");
        return bytes;
    }
}
