using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Core.Wire;
using Rovett.Service.Ledgers;
using Rovett.Storage.Sqlite;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>In which order what is asked of the ledger is carried out, and what goes together. Time stands still here
/// unless it is set.</summary>
public class LedgerQueueTests
{
    sealed class StoppedClock : TimeProvider
    {
        long now = 1_000_000_000_000;

        public override long GetTimestamp() => now;

        public void Advance(int ms) => now += TimestampFrequency * ms / 1000;
    }

    readonly StoppedClock clock = new();
    readonly LedgerQueue queue;

    public LedgerQueueTests() => queue = new LedgerQueue(clock);

    static SendCommand Send(string space = "main") => new(space, null!, null, false);

    static ReceivedCommand Ack() => new("main", "mara", [], false, "tablet");

    static ProbeCommand Other() => new("main");

    T Add<T>(T command) where T : LedgerCommand
    {
        queue.Add(command).ShouldBeTrue();
        clock.Advance(1);
        return command;
    }

    List<LedgerCommand> Take()
    {
        var batch = new List<LedgerCommand>();
        queue.Take(batch).ShouldBeTrue();
        return batch;
    }

    [Fact]
    public void Sends_overtake_acknowledgements()
    {
        var ack = Add(Ack());
        var (first, second) = (Add(Send()), Add(Send()));
        Take().ShouldBe([first, second]);
        Take().ShouldBe([ack]);
    }

    [Fact]
    public void A_full_queue_still_takes_what_ends_a_session()
    {
        var command = Other();
        while (queue.Add(command)) { }
        queue.Add(Send()).ShouldBeFalse();
        queue.Add(new DetachCommand("main", null!, null!)).ShouldBeTrue();
    }

    [Fact]
    public void Nothing_else_overtakes_anything()
    {
        LedgerCommand[] asked = [Add(Ack()), Add(Other()), Add(Send()), Add(Ack()), Add(Other()), Add(Ack())];
        Take().ShouldBe(asked[..5]);
        Take().ShouldBe([asked[5]]);
    }

    [Fact]
    public void Acknowledgements_that_were_overtaken_for_long_have_their_turn_though_sends_go_on()
    {
        var ack = Add(Ack());
        clock.Advance(25);
        var (first, second) = (Add(Send()), Add(Ack()));
        Take().ShouldBe([ack, second]);
        var third = Add(Ack());
        clock.Advance(25);
        Take().ShouldBe([first]);
        var late = Add(Send());
        Take().ShouldBe([third]);
        Take().ShouldBe([late]);
    }

    [Fact]
    public void While_sends_go_on_acknowledgements_come_in_short_slices()
    {
        Add(Send());
        Take().Count.ShouldBe(1);
        for (int i = 0; i < 300; i++) queue.Add(Ack()).ShouldBeTrue();
        Take().Count.ShouldBe(128);
        clock.Advance(200);
        Take().Count.ShouldBe(172);
    }

    [Fact]
    public void Acknowledgements_are_written_while_sends_wait_for_more_of_their_kind()
    {
        queue.Gathering.Committed(sends: 3, offered: 12_000);
        var first = Add(Send());
        var ack = Add(Ack());
        Take().ShouldBe([ack]);
        var (second, third) = (Add(Send()), Add(Send()));
        Take().ShouldBe([first, second, third]);
    }

    [Theory]
    [InlineData(3, 12_000, 15)] // longer than writing them took
    [InlineData(3, 3_000, 0)] // few were concerned
    [InlineData(1, 12_000, 0)] // one that came alone
    public void Sends_wait_for_more_only_as_long_as_that_is_worth_while(int sends, int offered, int after)
    {
        queue.Gathering.Committed(sends, offered);
        var send = Add(Send());
        clock.Advance(after);
        Take().ShouldBe([send]);
    }

    [Fact]
    public void Whatever_is_no_send_waits_for_nothing()
    {
        queue.Gathering.Committed(sends: 16, offered: 16_000);
        LedgerCommand[] asked = [Add(Send()), Add(Other())];
        Take().ShouldBe(asked);
    }

    [Fact]
    public void Sends_wait_until_writers_have_begun()
    {
        for (int i = 0; i < 65; i++) queue.Gathering.WriterWoken();
        queue.Gathering.Committed(sends: 2, offered: 20_000);
        LedgerCommand[] asked = [Add(Send()), Add(Send())];
        var ack = Add(Ack());
        Take().ShouldBe([ack]);
        queue.Gathering.WriterBegun();
        Take().ShouldBe(asked);
    }

    [Fact]
    public void It_is_idle_when_nothing_waits_and_nothing_is_under_way()
    {
        queue.IsIdle.ShouldBeTrue();
        Add(Ack());
        queue.IsIdle.ShouldBeFalse();
        Take();
        queue.IsIdle.ShouldBeFalse();
        queue.Close();
        queue.Take([]).ShouldBeFalse();
        queue.IsIdle.ShouldBeTrue();
    }

    [Fact]
    public void Closed_it_takes_no_more_and_gives_out_what_waits()
    {
        queue.Gathering.Committed(sends: 16, offered: 16_000);
        var (ack, send) = (Add(Ack()), Add(Send()));
        queue.Close();
        queue.Add(Send()).ShouldBeFalse();
        Take().ShouldBe([send]);
        Take().ShouldBe([ack]);
        queue.Take([]).ShouldBeFalse();
    }

    [Fact]
    public void While_several_spaces_ask_each_has_its_turn()
    {
        for (int i = 0; i < 600; i++) queue.Add(Send("greedy")).ShouldBeTrue();
        var modest = Add(Send("modest"));
        var batch = Take();
        batch.Count(c => c.Space == "greedy").ShouldBe(16);
        batch.ShouldContain(modest);
        Take().Count.ShouldBe(16); // another may come at any moment
        LedgerCommand[] again = [Add(Send("modest")), Add(Other())];
        batch = Take();
        batch.Count.ShouldBe(18);
        batch.ShouldContain(again[0]);
        batch.ShouldContain(again[1]);
        clock.Advance(300);
        Take().Count.ShouldBe(512); // nobody else has asked for a while
    }

    [Fact]
    public void In_turn_too_each_space_has_its_own_order()
    {
        LedgerCommand[] first = [Add(Send("first")), Add(Send("first"))];
        LedgerCommand[] main = [Add(Ack()), Add(Other()), Add(Ack()), Add(Send())];
        var batch = Take();
        batch.Where(c => c.Space == "first").ShouldBe(first);
        batch.Where(c => c.Space == "main").ShouldBe([main[0], main[1], main[3], main[2]]);
        queue.Sends.ShouldBe(0);
        queue.Close();
        queue.Take([]).ShouldBeFalse();
    }

    [Fact]
    public void What_is_about_no_space_crowds_nobody()
    {
        for (int i = 0; i < 100; i++) queue.Add(Send()).ShouldBeTrue();
        Take().Count.ShouldBe(100);
        queue.Add(new PurgeCommand()).ShouldBeTrue();
        Take().Count.ShouldBe(1);
        for (int i = 0; i < 100; i++) queue.Add(Send()).ShouldBeTrue();
        Take().Count.ShouldBe(100);
    }

    [Fact]
    public void Between_the_steps_of_a_command_other_spaces_have_their_turn_and_its_own_waits()
    {
        var folder = Directory.CreateTempSubdirectory("rovett-queue-");
        try
        {
            using var store = SqliteFiles.OpenHistory(Path.Combine(folder.FullName, "history.db"));
            var ledger = new Ledger(store, new LedgerOptions(), TimeProvider.System, new RecentBySpace());
            for (int i = 0; i < 3; i++)
            {
                var session = new Session(TransportKind.Sse, new SessionLimits(), TimeSpan.Zero, () => { });
                ledger.Process([new AttachCommand("main", new Identity(new UserId($"crew{i}"), ["deckhand"], 1), "phone", session)]);
            }
            var remove = Add(new RemoveSpaceCommand("main") { StepSize = 1 });
            var (after, ack, elsewhere) = (Add(Other()), Add(Ack()), Add(Send("harbour")));
            for (int step = 0; step < 3; step++)
            {
                var batch = Take();
                batch.ShouldBe([remove]);
                ledger.Process(batch);
                remove.IsUnfinished.ShouldBe(step < 2);
                queue.SteppedOn(remove);
                clock.Advance(5);
                if (step > 0) continue;
                Take().ShouldBe([elsewhere]);
                clock.Advance(300); // only one space asks now, and does not rest
            }
            Take().ShouldBe([ack], "it was overtaken for long");
            Take().ShouldBe([after]);
        }
        finally
        {
            folder.Delete(recursive: true);
        }
    }

    static SendManyCommand Many(string space, int count) => new(space, new Core.Notifications.Draft[count]);

    [Fact]
    public void Long_work_is_done_alone_and_its_space_then_rests_for_as_long()
    {
        Add(Send("yard"));
        var (quick, much, more) = (Add(Send()), Add(Many("yard", 300)), Add(Many("yard", 300)));
        Take().Count.ShouldBe(2); // the two sends: what takes long does not hold them up
        var other = Add(Send());
        Take().ShouldBe([much], "its turn is kept, though others ask");
        clock.Advance(30); // it took so long
        Take().ShouldBe([other]);
        var late = Add(Send());
        Take().ShouldBe([late], "it rests as long as it took");
        clock.Advance(30);
        var last = Add(Send("harbour"));
        Take().ShouldBe([more]);
        Take().ShouldBe([last]);
        quick.Work.ShouldBe(1);
        much.Work.ShouldBe(300);
    }

    [Fact]
    public void A_turn_that_was_kept_may_come_when_nobody_else_asks_any_more()
    {
        Add(Send("yard"));
        Add(Send());
        var much = Add(Many("yard", 300));
        Take().Count.ShouldBe(2);
        clock.Advance(300); // that took long; by now yard asks alone
        Take().ShouldBe([much]);
        var (one, other) = (Add(Send()), Add(Send("harbour")));
        Take().ShouldBe([one, other]);
    }

    [Fact]
    public void A_space_alone_does_not_rest()
    {
        var (first, second, third) = (Add(Many("yard", 30)), Add(Many("yard", 30)), Add(Send("yard")));
        Take().ShouldBe([first, second, third]);
    }

    [Fact]
    public void A_commit_has_few_commands_that_take_long()
    {
        var parts = Enumerable.Range(0, 8).Select(_ => Add(Many("yard", 25))).ToArray();
        var send = Add(Send("yard"));
        Take().ShouldBe(parts[..3]);
        Take().ShouldBe(parts[3..6]);
        Take().ShouldBe([parts[6], parts[7], send]);
        for (int i = 0; i < 200; i++) queue.Add(Send("yard")).ShouldBeTrue();
        Take().Count.ShouldBe(200);
    }

    [Fact]
    public void Between_the_parts_of_a_large_request_another_space_has_its_turn()
    {
        Add(Send());
        Take();
        var parts = Enumerable.Range(0, 4).Select(_ => Add(Many("yard", 25))).ToArray();
        var send = Add(Send());
        Take().ShouldBe([parts[0]], "it came first");
        Take().ShouldBe([send]);
        clock.Advance(2);
        Take().ShouldBe([parts[1]]);
    }
}
