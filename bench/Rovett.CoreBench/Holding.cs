using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Nodes;
using Rovett.Core.Notifications;
using Rovett.Core.Wire;
using Rovett.Storage.Postgres;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.CoreBench;

/// <summary>How long one send to a role holds the ledger's thread, with nobody connected and with 10,000 sessions, send by send in turn.
/// The sessions are fed on a thread of their own, and each is written out before the next send.</summary>
static class Holding
{
    const int Connected = 10_000, Sends = 200;

    /// <param name="databases">Two empty databases of PostgreSQL, as connection strings; none: SQLite.</param>
    public static void Run(IReadOnlyList<string> databases)
    {
        int next = 0;
        if (databases.Count == 2) Measure("PostgreSQL", (_, _) => databases[next++]);
        else Measure("SQLite", Path.Combine);
    }

    static void Measure(string name, Func<string, string, string> place)
    {
        var folder = Directory.CreateTempSubdirectory("rovett-holding-").FullName;
        try
        {
            using var alone = new Ground(place(folder, "alone.db"), 0);
            using var crowded = new Ground(place(folder, "crowded.db"), Connected);
            var (none, many, ratios) = (new List<double>(), new List<double>(), new List<double>());
            for (int i = -20; i < Sends; i++)
            {
                // Each goes first once: what comes after 10,000 sessions were written finds cold caches.
                double a = alone.Send(), b = crowded.Send() + crowded.Send();
                a += alone.Send();
                if (i < 0) continue;
                none.Add(a / 2);
                many.Add(b / 2);
                ratios.Add(b / a);
            }
            static double At(List<double> of, double part) => of.Order().ElementAt((int)(of.Count * part));
            Console.WriteLine($"{name}: a send holds the ledger for {At(none, 0.5):0} us with nobody connected, {At(many, 0.5):0} us with " +
                $"{Connected:N0} sessions; ratio {At(ratios, 0.5):0.00} [{At(ratios, 0.1):0.00} - {At(ratios, 0.9):0.00}]");
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    /// <summary>Applies commits on a thread of its own.</summary>
    sealed class Beside : INodeLink, IDisposable
    {
        readonly BlockingCollection<NodeCommit> commits = [];
        readonly Thread thread;

        public Beside()
        {
            thread = new Thread(() =>
            {
                foreach (var commit in commits.GetConsumingEnumerable()) commit.Apply();
            });
            thread.Start();
        }

        public void Send(NodeCommit commit) => commits.Add(commit);

        public void Dispose()
        {
            commits.CompleteAdding();
            thread.Join();
            commits.Dispose();
        }
    }

    sealed class Ground : IDisposable
    {
        readonly byte[] body = Encoding.UTF8.GetBytes("\"type\":\"engine.check.due\",\"title\":\"Turnstone: bow thruster check due\"");
        readonly byte[] buffer = new byte[16 * 1024];
        readonly List<AckedRun> acked = [];
        readonly List<Session> sessions = [];
        readonly Beside link = new();
        readonly SqlLedgerStore store;
        readonly Ledger ledger;
        readonly Address crew;

        public Ground(string place, int connected)
        {
            store = place.Contains("Host=", StringComparison.Ordinal) ? PostgresHistory.Open(place) : SqliteFiles.OpenHistory(place);
            ledger = new Ledger(store, new LedgerOptions(), TimeProvider.System, new RecentBySpace(), link: link);
            if (Address.TryParse("role:crew", out crew) is { } wrong) throw new FormatException(wrong);
            for (int i = 0; i < connected; i++)
            {
                var made = new Session(TransportKind.WebSocket, new SessionLimits(), TimeSpan.Zero, static () => { });
                var attach = new AttachCommand("main", new Identity(new UserId($"person{i}"), ["crew"], 1), "d", made);
                ledger.Process([attach]);
                made.Open([], attach.Task.GetAwaiter().GetResult().Head);
                made.Drain(buffer, out _);
                sessions.Add(made);
            }
        }

        /// <summary>Sends one, and has every session take it.</summary>
        /// <returns>Microseconds of the ledger's thread.</returns>
        public double Send()
        {
            var send = new SendCommand("main", new Draft([crew], [], body, new NotificationTraits("t", null, ReceiptLevel.Totals, null)), null,
                false);
            long began = Stopwatch.GetTimestamp();
            ledger.Process([send]);
            double took = Stopwatch.GetElapsedTime(began).TotalMicroseconds;
            send.Task.GetAwaiter().GetResult(); // it is answered once everybody was offered it
            foreach (var session in sessions)
            {
                while (session.Drain(buffer, out _) > 0) session.Written(TimeSpan.Zero);
                acked.Clear();
                session.Acknowledge(new Position(session.Through), null, TimeSpan.Zero, acked);
                if (acked.Count == 0) throw new InvalidOperationException("somebody was not fed");
            }
            return took;
        }

        public void Dispose()
        {
            link.Dispose();
            store.Dispose();
        }
    }
}
