using System.Text;
using BenchmarkDotNet.Attributes;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Notifications;
using Rovett.Core.Wire;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.CoreBench;

/// <summary>From the command to the bytes for every session, stored in SQLite in between; without sockets.</summary>
public class FanOutBench
{
    const int Sessions = 1000, Sends = 16;
    readonly string folder = Directory.CreateTempSubdirectory("rovett-corebench-").FullName;
    readonly List<Session> sessions = [];
    readonly byte[] buffer = new byte[16 * 1024];
    readonly byte[] body = Encoding.UTF8.GetBytes(
        $"\"type\":\"engine.check.due\",\"title\":\"Turnstone: bow thruster check due\",\"data\":{{\"pad\":\"{new string('x', 200)}\"}}");
    readonly List<AckedRun> acked = [];
    Address crew;
    SqlLedgerStore store = null!;
    Ledger ledger = null!;

    /// <summary>Connects 1,000 sessions of one role.</summary>
    [GlobalSetup]
    public void Setup()
    {
        store = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));
        ledger = new Ledger(store, new LedgerOptions(), TimeProvider.System, new RecentBySpace());
        if (Address.TryParse("role:crew", out crew) is { } wrong) throw new FormatException(wrong);
        for (int i = 0; i < Sessions; i++)
        {
            var made = new Session(TransportKind.WebSocket, new SessionLimits(), TimeSpan.Zero, static () => { });
            var info = TotalsBench.Ask(ledger, new AttachCommand("main", new Identity(new UserId($"person{i}"), ["crew"], 1), "d", made));
            made.Open([], info.Head);
            made.Drain(buffer, out _);
            sessions.Add(made);
        }
    }

    /// <summary>Removes the store.</summary>
    [GlobalCleanup]
    public void Cleanup()
    {
        store.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    /// <summary>One delivery of 16 sends to 1,000 sessions in one commit, acknowledged.</summary>
    [Benchmark(OperationsPerInvoke = Sends * Sessions)]
    public long Delivery()
    {
        var batch = new List<LedgerCommand>(Sends);
        for (int i = 0; i < Sends; i++)
        {
            batch.Add(new SendCommand("main",
                new Draft([crew], [], body, new NotificationTraits("engine.check.due", null, ReceiptLevel.Totals, null)), null, false));
        }
        ledger.Process(batch);
        long bytes = 0;
        foreach (var session in sessions)
        {
            while (session.Drain(buffer, out _) is var count and > 0)
            {
                bytes += count;
                session.Written(TimeSpan.Zero);
            }
            acked.Clear();
            session.Acknowledge(new Position(session.Through), null, TimeSpan.Zero, acked);
        }
        if (bytes < Sends * Sessions * 300) throw new InvalidOperationException("not everybody was fed");
        return bytes;
    }
}
