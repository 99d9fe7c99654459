using Microsoft.Data.Sqlite;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Store;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.Simulator;

/// <summary>Several nodes: one serves the space, another takes it, and the first, which was only paused, carries on from where it was.</summary>
public sealed partial class World
{
    const int MostAsleep = 3;

    long term;
    readonly List<Node> asleep = [];

    /// <summary>Numbers of rows are drawn in blocks, which nobody else draws.</summary>
    sealed class Drawing(SqliteConnection connection, World world) : SqliteSql(connection)
    {
        const int Block = 10;

        public override (long From, long To) Numbers(string table)
        {
            long from = world.drawn += Block;
            return (from, from + Block - 1);
        }
    }

    long drawn = 1000;

    /// <summary>A node that does not serve the space any more, with what it had under way.</summary>
    sealed record Node(Ledger Ledger, FaultyStore Store, SqlLedgerStore Disk, SqlHistory History, RecentBySpace Recent, ServiceClock Time,
        List<SimCommand> Batch, int DiskLife, int Era)
    {
        public bool IsAwake { get; set; }
    }

    /// <summary>Another node takes the space, be it that the one that has it is paused, or gives it up.</summary>
    void TakeOver()
    {
        if (asleep.Count >= MostAsleep) return;
        bool isGiven = Chance(0.4);
        Counts.TakeOvers++;
        Note(isGiven ? "the space is given to another node" : "another node takes the space");
        if (isGiven)
        {
            while (waiting.Count > 0) ProcessBatch();
            if (!controls.WithoutLettingGo) ProcessNow(new LetGoCommand("main"));
        }
        foreach (var device in devices)
        {
            if (!device.StaysOn()) device.Lose(cut: true);
            device.ServiceDied();
        }
        var old = new Node(ledger, store, disk, history, recent, time, [.. waiting], diskLife, Era);
        waiting.Clear();
        ledgerScheduled = false;
        term++;
        if (!TakeAgain()) Start();
        asleep.Add(old);
        After(Short(4000), () => Wake(old));
        foreach (var device in devices)
        {
            device.ComeBack(Short(400));
            device.Reopen(Short(400));
        }
    }

    /// <summary>A node that had the space before takes it again.</summary>
    /// <returns>False when there is none that may.</returns>
    bool TakeAgain()
    {
        // One whose clock differs by much owns nothing.
        if (clock.Offset != default || Chance(0.5)) return false;
        if (asleep.Find(n => (n.IsAwake || n.Batch.Count == 0) && n.DiskLife == diskLife && n.Era == Era && n.Time.Step is null) is not { } node) return false;
        Note("it had it before");
        asleep.Remove(node);
        (ledger, store, disk, history, recent, time) = (node.Ledger, node.Store, node.Disk, node.History, node.Recent, node.Time);
        store.Term = term;
        store.Heal();
        believing = false;
        if (!controls.WithoutLettingGo) ProcessNow(new LetGoCommand("main"));
        dueAhead = time.Due.Micros - clock.True;
        life++;
        Link = new SimLink(this, 64 << 20);
        return true;
    }

    /// <summary>A node that was paused goes on: it may neither store nor answer anything.</summary>
    void Wake(Node node)
    {
        if (!asleep.Contains(node) || node.IsAwake) return;
        node.IsAwake = true;
        if (node.DiskLife != diskLife) return; // what it knew is not what is stored now
        node.Store.Heal();
        var read = new HeadCommand("main");
        var commands = node.Batch.Select(b => b.Command).Append(read).ToList();
        node.Ledger.Process(commands);
        foreach (var command in commands.Where(c => c.NeedsStore))
        {
            var why = TaskOf(command).Exception?.InnerException;
            if (why is ProblemException { Problem.Slug: "space-moved" }) continue;
            if (why is DeposedException && controls.WithoutFence) continue; // refused by the check of reads, which is not left out
            throw Wrong($"a node that another took the space from answered {command.GetType().Name}: {TaskOf(command).Status} " +
                $"{TaskOf(command).Exception?.InnerException}");
        }
    }

    /// <summary>The machines of all that are not serving stop.</summary>
    void EndAsleep()
    {
        foreach (var node in asleep)
        {
            node.History.Dispose();
            node.Disk.Dispose();
        }
        asleep.Clear();
    }
}
