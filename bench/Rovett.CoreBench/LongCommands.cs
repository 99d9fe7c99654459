using System.Diagnostics;
using System.Globalization;
using System.Text;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;
using Rovett.Core.Wire;
using Rovett.Storage.Sqlite;

namespace Rovett.CoreBench;

/// <summary>How long the steps of policy loads, role grants and space removal hold the ledger's thread while 10,000 people are connected
/// who follow a topic each. Commits and pauses of the garbage collector are not counted.</summary>
static class LongCommands
{
    const int Connected = 10_000, Step = 10;

    public static void Run()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-long-").FullName;
        try
        {
            using var store = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));
            var ledger = new Ledger(store, new LedgerOptions(), TimeProvider.System, new RecentBySpace());
            Ask(ledger, new AddSpaceCommand("other", new byte[32]));
            Load(ledger, "when nobody is connected", "follow");
            for (int i = 0; i < Connected; i++)
            {
                var session = new Session(TransportKind.WebSocket, new SessionLimits(), TimeSpan.Zero, static () => { });
                Ask(ledger, new AttachCommand("other", new Identity(new UserId($"person{i}"), ["crew"], 1), "d", session));
                Ask(ledger, new FollowCommand("other", $"person{i}", $"berth/{i % 100}", true, 10));
            }
            Load(ledger, "that change nothing for anybody", "follow\",\"subscribe");
            Load(ledger, "that take a topic from everybody", "subscribe");
            Load(ledger, "that give everybody a topic", "follow");
            Timed(ledger, "a grant to a role that nobody holds", Grant("cook"));
            var grant = Timed(ledger, "a grant to everybody's role, of what all may already", Grant("crew"));
            Timed(ledger, "its end", new EndGrantCommand("other", grant.Grant.Number) { StepSize = Step });
            Timed(ledger, "the removal of the space", new RemoveSpaceCommand("other") { StepSize = 10 * Step });
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    static GrantCommand Grant(string role) =>
        new("other", new GrantDraft(null, role, "berth/7", TopicRights.Follow, null, null)) { StepSize = Step };

    static void Load(Ledger ledger, string which, string may)
    {
        string text = $$$"""{"policies":[{"name":"berths","topic":"berth/{n}","may":["{{{may}}}"],"when":{"anyone":true}}]}""";
        var set = PolicyReader.Read(JsonDocument.Parse(text).RootElement, []);
        Timed(ledger, "policies " + which, new PutPoliciesCommand("other", set, Encoding.UTF8.GetBytes(text), null) { StepSize = Step });
    }

    static T Timed<T>(Ledger ledger, string what, LedgerCommand<T> command)
    {
        var steps = new List<double>();
        double pauses = 0;
        long began = Stopwatch.GetTimestamp();
        do
        {
            var paused = GC.GetTotalPauseDuration();
            ledger.Process([command]);
            double pause = (GC.GetTotalPauseDuration() - paused).TotalMilliseconds;
            pauses += pause;
            steps.Add(Math.Max(0, command.Held!.Value.TotalMilliseconds - pause));
        }
        while (command.IsUnfinished);
        double took = Stopwatch.GetElapsedTime(began).TotalMilliseconds;
        steps.Sort();
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture, $"{took,7:0.0} ms in {steps.Count,3} steps; longest " +
            $"{steps[^1],5:0.0}, 99 of 100 within {steps[(int)(0.99 * (steps.Count - 1))],5:0.0}: {what} ({pauses:0} ms in pauses for garbage)"));
        return command.Task.GetAwaiter().GetResult();
    }

    static void Ask<T>(Ledger ledger, LedgerCommand<T> command)
    {
        ledger.Process([command]);
        command.Task.GetAwaiter().GetResult();
    }
}
