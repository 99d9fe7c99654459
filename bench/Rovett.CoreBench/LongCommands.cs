using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Policies;
using Rovett.Core.Store;
using Rovett.Core.Wire;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.CoreBench;

/// <summary>How long administration holds the ledger's thread, with 10,000 connected people who follow a topic each.</summary>
static class LongCommands
{
    const int Connected = 10_000;

    public static void Run()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-long-").FullName;
        try
        {
            using var store = SqliteFiles.OpenHistory(Path.Combine(folder, "history.db"));
            var ledger = new Ledger(store, new LedgerOptions(), TimeProvider.System, new RecentBySpace());
            Ask(ledger, new AddSpaceCommand("other", new byte[32]));
            Load(ledger, "with nobody connected", "follow");
            for (int i = 0; i < Connected; i++)
            {
                var session = new Session(TransportKind.WebSocket, new SessionLimits(), TimeSpan.Zero, static () => { });
                Ask(ledger, new AttachCommand("other", new Identity(new UserId($"person{i}"), ["crew"], 1), "d", session));
                Ask(ledger, new FollowCommand("other", $"person{i}", $"berth/{i % 100}", true, 10));
            }
            Load(ledger, "that changes nothing for anybody", "follow\",\"subscribe");
            Load(ledger, "that takes a topic from everybody", "subscribe");
            Load(ledger, "that gives everybody a topic", "follow");
            Timed("a grant to a role that nobody holds", () => Ask(ledger, Grant("cook")));
            var grant = Timed("a grant to everybody's role, of what all may already", () => Ask(ledger, Grant("crew")));
            Timed("its end", () => Ask(ledger, new EndGrantCommand("other", grant.Grant.Number)));
            Timed("the removal of the space", () => Ask(ledger, new RemoveSpaceCommand("other")));
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    static GrantCommand Grant(string role) =>
        new("other", new GrantDraft(null, role, "berth/7", TopicRights.Follow, null, null));

    static void Load(Ledger ledger, string which, string may)
    {
        string text = $$$"""{"policies":[{"name":"berths","topic":"berth/{n}","may":["{{{may}}}"],"when":{"anyone":true}}]}""";
        var set = PolicyReader.Read(JsonDocument.Parse(text).RootElement, []);
        Timed("policies " + which, () => Ask(ledger, new PutPoliciesCommand("other", set, System.Text.Encoding.UTF8.GetBytes(text), null)));
    }

    static T Timed<T>(string what, Func<T> work)
    {
        long began = Stopwatch.GetTimestamp();
        var made = work();
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
            $"{Stopwatch.GetElapsedTime(began).TotalMilliseconds,8:0.0} ms  {what}"));
        return made;
    }

    static T Ask<T>(Ledger ledger, LedgerCommand<T> command)
    {
        ledger.Process([command]);
        return command.Task.GetAwaiter().GetResult();
    }
}
