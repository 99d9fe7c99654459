using System.Globalization;
using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Life;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Core.Marks;
using Rovett.Core.Store;
using Rovett.Core.Wire;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.Simulator;

/// <summary>What was found wrong, with the seed that shows it again.</summary>
public sealed class SimulationException(string message) : Exception(message);

/// <summary>One simulated world: the real ledger, store, sessions and feeders; clients, networks, disk and time out of a
/// seed. The same seed makes the same history.</summary>
public sealed partial class World : IDisposable, ILedgerFaults
{
    internal static readonly string[] Users = ["mara", "ivo", "teo", "ruth", Guest];
    /// <summary>Somebody without a device of the simulator's, who is erased now and then, and comes again.</summary>
    const string Guest = "quill";
    static readonly TimeSpan LongestToken = TimeSpan.FromDays(60);
    static readonly string[] Roles = ["engineer", "deckhand", "bridge"];
    static readonly string[] Subjects = ["vessel/turnstone", "vessel/kittiwake", "berth/3"];
    static readonly string[] Types = ["engine.check.due", "sailing.delayed", "weather.warning"];
    internal static readonly string[] Topics = ["berth/3", "berth/4", "sailing/7"];
    static readonly Address[] Addresses = [.. Users.Select(u => Address.User(new UserId(u))), .. Roles.Select(Address.Role),
        .. Topics.Select(Address.Topic), Address.Everyone];
    static readonly TimeSpan Newcomers = TimeSpan.FromHours(48);

    readonly Random random;
    readonly SimClock clock = new();
    readonly PriorityQueue<Action, (TimeSpan At, long Number)> events = new();
    readonly string folder;
    readonly Dictionary<NotificationId, int> numbers = [];
    readonly Dictionary<(long Log, long Ordinal), int> numberAt = [];
    readonly List<Device> devices = [];
    readonly List<SimCommand> waiting = [];
    readonly List<Copied> backups = [];
    readonly StringBuilder? log;
    readonly Controls controls;

    Reference reference = new(Newcomers);
    SqlLedgerStore disk = null!;
    FaultyStore store = null!;
    SqlHistory history = null!;
    RecentBySpace recent = null!;
    CursorSeal seal = null!;
    Ledger ledger = null!;
    ServiceClock time = null!;
    long dueAhead; // how far the due time is from the true one; it changes only when the machine is started anew
    long eventNumber;
    readonly List<long> made = []; // credentials, by when they say they were made
    bool ledgerScheduled;
    int life, diskLife;

    /// <summary>How many notifications were stored, commands carried out, messages delivered; for the report.</summary>
    public (int Sent, int Commands, int Delivered, int Crashes, int Faults, int Cuts, int Restores, int Erasures, int Withdrawals, int Said,
        int Events, int Repeats, int Gathered, int Dropped, int TakeOvers, int Stayed, int Steps) Counts;

    /// <summary>Virtual time that passed.</summary>
    public TimeSpan Elapsed => clock.Elapsed;

    internal Reference Reference => reference;
    internal Dictionary<NotificationId, int> Numbers => numbers;
    internal Random Random => random;
    internal SimClock Clock => clock;
    internal CursorSeal Seal => seal;
    internal SqlHistory History => history;
    internal RecentEntries Recent => recent.Of("main");
    internal int Life => life;

    /// <summary>Goes up when a clock that was wrong is not believed any more: what credentials say of their time means
    /// nothing then.</summary>
    internal int Era { get; private set; }

    /// <summary>Which signing key tokens are made with now; those before it were withdrawn.</summary>
    internal int KeyNumber { get; private set; }

    /// <summary>Whether the ledger knows a session.</summary>
    internal bool Knows(ISessionPort session) => ledger.Feeds("main", session);

    /// <summary>Every value a user's unread total had, with the reference's head at that time.</summary>
    internal Dictionary<string, List<(long Head, long Unread)>> TotalsOverTime { get; } = [];

    /// <param name="seed">Decides everything.</param>
    /// <param name="template">A fresh, migrated history file.</param>
    /// <param name="folder">Where to put this world's files.</param>
    /// <param name="log">Where to write what happens, or null.</param>
    /// <param name="controls">What is left out on purpose.</param>
    public World(int seed, string template, string folder, StringBuilder? log, Controls? controls = null)
    {
        this.controls = controls ?? new Controls();
        random = new Random(seed);
        this.folder = folder;
        this.log = log;
        Directory.CreateDirectory(folder);
        File.Copy(template, DiskPath, overwrite: true);
        Start();
        ListenTo(reference);
        foreach (var user in Users.Where(u => u != Guest))
        {
            int count = 1 + random.Next(2);
            for (int i = 0; i < count; i++) devices.Add(new Device(this, user, $"{user}-{i}", (TransportKind)random.Next(3)));
        }
    }

    string DiskPath => Path.Combine(folder, $"history-{diskLife}.db");

    internal void Note(string what) => log?.Append(CultureInfo.InvariantCulture, $"{clock.Elapsed:d\\.hh\\:mm\\:ss\\.ffffff} {what}\n");

    internal Exception Wrong(string what) => new SimulationException($"at {clock.Elapsed}: {what}");

    internal void After(TimeSpan delay, Action what) => events.Enqueue(what, (clock.Elapsed + delay, eventNumber++));

    internal TimeSpan Short(int maxMs) => TimeSpan.FromMicroseconds(random.Next(1, maxMs * 1000));

    bool Chance(double probability) => random.NextDouble() < probability;

    T Pick<T>(IReadOnlyList<T> from) => from[random.Next(from.Count)];

    void Start()
    {
        var connection = SqliteFiles.Open(DiskPath, readOnly: false);
        using (var pragma = connection.CreateCommand())
        {
            pragma.CommandText = "PRAGMA synchronous=OFF"; // the power-cut tests look after syncing
            pragma.ExecuteNonQuery();
        }
        disk = new SqlLedgerStore(new Drawing(connection, this), readsAhead: Chance(0.5));
        store = new FaultyStore(disk, () => term, controls);
        history = SqliteFiles.ReadHistory(DiskPath);
        recent = new RecentBySpace(Chance(0.5) ? 64 << 20 : 6000); // now and then too small for a catch-up
        var row = disk.FindSpace("main")!;
        seal = new CursorSeal(row.Key, disk.Epoch, "main", "cursor");
        time = new ServiceClock(clock, disk.Clock);
        believing = false;
        time.SettleStanding(disk);
        if (time.WentBackWhileAway)
        {
            reference.CapStanding(StoredTime.From(time.GetUtcNow()).Micros);
            made.Clear();
            Era++;
        }
        dueAhead = time.Due.Micros - clock.True;
        if (life == 0 && dueAhead != 0) throw Wrong($"a new service's due time is {dueAhead} us off");
        ledger = new Ledger(store, new LedgerOptions
        {
            Newcomers = Newcomers,
            KeepCount = KeepCount,
            KeepsFullReceipts = true,
            MostIdleUsers = Chance(0.5) ? 100_000 : random.Next(3),
            MostLoose = Chance(0.5) ? 100_000 : random.Next(20),
            PresenceGrace = TimeSpan.FromSeconds(2)
        }, time, recent, new Observer(this), this);
        life++;
        Link = new SimLink(this, Chance(0.5) ? 64 << 20 : 6000);
    }

    /// <summary>The way to the node that holds some of the sessions.</summary>
    internal SimLink Link { get; private set; } = null!;

    /// <summary>Nothing that the simulator does is a bug of the ledger's.</summary>
    void ILedgerFaults.Bug(string? space, string where, Exception error) => bug ??= new SimulationException($"a bug in {where}: {error}");

    void ILedgerFaults.StoreFailed(Exception error) { }

    void ILedgerFaults.SetAside(string space, string what, string why) => bug ??= new SimulationException($"{what} was set aside: {why}");

    void ILedgerFaults.StoreRecovered() { }

    internal void Bug(Exception error) => bug ??= error;

    internal Controls Controls => controls;

    Exception? bug;
    bool believing, settling;

    long? KeepCount => keep;
    long? keep;
    bool topical;

    sealed class Observer(World world) : ILedgerObserver
    {
        public void Stored(string space, OutgoingEntry notification, Addressing addressing, IReadOnlyList<Placement> placements)
        {
            var body = Encoding.UTF8.GetString(notification.Body);
            int number = int.Parse(body.Split("\"n\":")[1].Split(',', '}')[0], CultureInfo.InvariantCulture);
            if (body.Split("\"title\":\"") is [_, var title])
            {
                world.counts[notification.Id] = int.Parse(title.Split('"')[0], CultureInfo.InvariantCulture);
            }
            world.numbers[notification.Id] = number;
            foreach (var p in placements) world.numberAt[(p.Log, p.Ordinal)] = number;
        }
        public void Changed(string space, OutgoingEntry change) { }
        public void Marked(string space, long log, OrdinalRun run, MarkKind kind, int sign) { }
        public void Receipted(string space) { }
        public void Outbound(string space) { }
        public void DeadlineEnded(string space, bool isMet) { }
        public void Erased(string space, string user) { }
    }

    /// <summary>Runs the world: bursts of activity with pauses of hours between them, then peace, then the last judgement.</summary>
    public void Run(int bursts, int stepsPerBurst)
    {
        keep = Chance(0.3) ? random.Next(5, 60) : null;
        if (keep is not null) Restart();
        topical = Chance(0.6);
        if (topical) LoadPolicies();
        foreach (var device in devices) device.ComeBack(Short(200));
        for (int burst = 0; burst < bursts; burst++)
        {
            for (int i = 0; i < stepsPerBurst; i++) After(Short(4000), Act);
            var end = clock.Elapsed + TimeSpan.FromSeconds(5);
            for (int second = 0; second < 5; second++) After(TimeSpan.FromSeconds(second), EverySecond);
            RunUntil(end);
            clock.AdvanceTo(clock.Elapsed + TimeSpan.FromHours(random.NextDouble() * 30));
            if (!Chance(0.25)) continue;
            // The service notes the time every second, also while nothing happens.
            var noted = new SaveClockCommand();
            ProcessNow(noted);
            if (noted.Task.IsCompletedSuccessfully) SetClock();
        }
        Settle();
    }

    void RunUntil(TimeSpan end)
    {
        if (bug is not null) throw bug;
        while (events.TryPeek(out _, out var at) && at.At <= end)
        {
            var what = events.Dequeue();
            clock.AdvanceTo(at.At);
            what();
        }
        clock.AdvanceTo(end);
    }

    /// <summary>Somebody sets the machine's clock: a little back, hours back or ahead, or right again.</summary>
    void SetClock()
    {
        if (clock.Offset != default && Chance(0.5)) clock.SetRight();
        else
        {
            clock.Set(Chance(0.4) ? -TimeSpan.FromMinutes(random.Next(1, 90))
                : TimeSpan.FromHours(random.Next(2) == 0 ? -10 : 10) * random.NextDouble());
        }
        Note($"the clock is {clock.Offset} off");
    }

    /// <summary>True time passed, whatever was done to the clock (to some rounding).</summary>
    void CheckDue()
    {
        if (time.Due.Micros - clock.True is var ahead && Math.Abs(ahead - dueAhead) > 100)
        {
            throw Wrong($"the due time stepped: it is {ahead} us ahead, and was {dueAhead}");
        }
    }

    void LookAtClock()
    {
        CheckDue();
        if (time.StepHasLasted && time.Step is { } step && !believing)
        {
            believing = true;
            Post(new BelieveStepCommand(step), _ =>
            {
                time.Believe(step);
                believing = false;
                // What little was not known of the time away, with a clock that was wrong, is known once the clock is right.
                if (time.Due.Micros - clock.True is var ahead && Math.Abs(ahead) <= 100
                    && Math.Abs(dueAhead) <= ServiceClock.Tolerance.TotalMicroseconds)
                {
                    dueAhead = ahead;
                }
            }, now =>
            {
                reference.Believe(time.Began.Micros, now, (long)step.By.TotalMicroseconds);
                made.Clear(); // by a clock that was wrong
                Era++;
            }, failed: () => believing = false);
        }
        if (Chance(0.3)) Post(new SaveClockCommand(), _ => { });
    }

    void EverySecond()
    {
        LookAtClock();
        if (erasing) EraseStep();
        foreach (var device in devices) device.Tick();
        Post(new DueCommand("main"), _ => { }, now =>
        {
            reference.Due(now);
            PruneSubscriptions();
        });
        Post(new PresenceRoundCommand("main"), _ => { });
        if (keep is not null && Chance(0.5))
        {
            int limit = random.Next(1, 20);
            var trim = new TrimCommand("main", limit);
            Post(trim, _ => { },
                now => reference.Trim(now, Math.Min(Math.Min(reference.Head - reference.Floor > keep.Value
                    ? reference.Head + 1 - keep.Value : reference.Floor, reference.Floor + limit), reference.Head)));
        }
    }

    /// <summary>Everything heals, everybody comes back, everything in flight arrives; then all must agree.</summary>
    void Settle()
    {
        settling = true;
        store.Heal();
        foreach (var user in Users) Block(user, false);
        foreach (var device in devices)
        {
            device.Calm();
            device.ComeBack(Short(50));
        }
        for (int i = 0; i < 40; i++)
        {
            for (int second = 0; second < 2; second++) After(TimeSpan.FromSeconds(second), EverySecond);
            RunUntil(clock.Elapsed + TimeSpan.FromSeconds(2));
            if (i > 4 && !erasing && devices.TrueForAll(d => d.IsQuiet)) break;
        }
        CheckEverything();
    }

    // ---- the ledger, with its queue

    sealed record SimCommand(LedgerCommand Command, Action<bool> Done, Action<long>? Apply, Action? Failed, Action? Refused);

    /// <summary>Asks the ledger. What it does to the reference is applied in the order of the commands, once they are committed.</summary>
    internal void Post<T>(LedgerCommand<T> command, Action<Task<T>> done, Action<long>? apply = null, Action? failed = null,
        Action? refused = null, SimLink? link = null)
    {
        waiting.Add(new SimCommand(command, happened =>
        {
            if (!happened) return;
            if (link is null) done(command.Task);
            else link.Deliver(() => done(command.Task)); // after all that was sent before it
        }, apply, failed, refused));
        ScheduleLedger();
    }

    void ScheduleLedger()
    {
        if (ledgerScheduled) return;
        ledgerScheduled = true;
        int born = life;
        After(Short(5), () =>
        {
            if (born == life) ProcessBatch();
        });
    }

    void ProcessBatch()
    {
        ledgerScheduled = false;
        if (waiting.Count == 0) return;
        int count = 1 + random.Next(waiting.Count);
        // Nothing of the space is carried out beside what takes steps.
        if (waiting.FindIndex(0, count, static c => c.Command.StepSize > 0) is var stepped and >= 0) count = stepped + 1;
        var batch = waiting.Take(count).ToList();
        waiting.RemoveRange(0, count);
        if (waiting.Count > 0) ScheduleLedger();
        CheckDue();
        long now = StoredTime.From(time.GetUtcNow()).Micros;
        reference.DueNow = time.Due.Micros; // which was looked at: LookAtClock
        foreach (var device in devices) device.BatchBegins();
        ledger.Process([.. batch.Select(b => b.Command)]);
        Counts.Commands += count;
        bool crashes = TakeSteps(batch[^1].Command);
        bool failed = batch.Exists(b => TaskOf(b.Command) is { IsFaulted: true } t && t.Exception!.InnerException is DiskFault);
        foreach (var command in batch)
        {
            var task = TaskOf(command.Command);
            bool isInDoubt = task.Exception?.InnerException is InDoubtException; // a later step failed: what it did is stored
            if (task.IsFaulted && !isInDoubt && task.Exception!.InnerException is not (DiskFault or ProblemException))
            {
                throw Wrong($"{command.Command.GetType().Name} failed: {task.Exception.InnerException}");
            }
            if (failed) command.Failed?.Invoke();
            else if (task.IsFaulted && !isInDoubt) command.Refused?.Invoke();
            else
            {
                command.Apply?.Invoke(now);
                NoteTotals();
                reference.NoteRights(Topics);
                if (log is not null)
                {
                    Note($"  {command.Command.GetType().Name} {(command.Command as SendCommand)?.Task.Result.Id} at {reference.Head}: " +
                        $"unread {string.Join(' ', Users.Select(u => $"{u} {reference.Unread(u)}"))}");
                }
            }
        }
        if (crashes)
        {
            Crash();
            return;
        }
        if (failed)
        {
            Counts.Faults++;
            Note($"a batch of {count} failed");
        }
        foreach (var device in devices) device.CheckFed(ledger);
        if (Chance(0.3)) CheckNode();
        int born = life;
        foreach (var command in batch)
        {
            After(Short(2), () =>
            {
                if (born == life) command.Done(true);
            });
        }
        if (!failed && Chance(0.2)) CheckUser(Pick(Users));
    }

    /// <summary>Has the other steps of a command carried out.</summary>
    /// <returns>True when the machine stops before it is finished.</returns>
    bool TakeSteps(LedgerCommand command)
    {
        bool crashes = command.IsUnfinished && !settling && Chance(0.1);
        int left = crashes ? random.Next(3) : int.MaxValue;
        for (; command.IsUnfinished && left > 0; left--)
        {
            Counts.Steps++;
            if (!settling && Chance(0.05)) Fault();
            ledger.Process([command]);
        }
        return crashes && command.IsUnfinished;
    }

    /// <summary>How a user's unread total comes about in each log, with what it is when counted anew.</summary>
    internal string TotalsOf(string user) => ledger.UserOf("main", user) is { Logs: { } logs }
        ? string.Join("; ", logs.Select(l => $"log {l.Log.Id} ({string.Join(' ', l.Log.Texts)}): {l.Unread()}, "
            + $"counted anew {l.Segments.Sum(s => l.CountUnread(s.Lo, s.Hi) + l.MineUnreadIn(s))}, gone {l.Gone}, "
            + $"seen {l.JournalSeen} of {l.Log.ChangedAt}, trimmed {l.Log.Trimmed} of {l.Log.Head}, read to {l.Read.Line}, "
            + $"muted through {l.MutedThrough}, segments {string.Join(' ', l.Segments)}"))
        : "not in memory";

    /// <summary>A request of its own that nothing else is committed with.</summary>
    internal void ProcessNow(LedgerCommand command) => ledger.Process([command]);

    /// <summary>What the node has of connected users must be what the ledger has.</summary>
    void CheckNode()
    {
        ledger.Process([new CheckTotalsCommand("main")]);
        if (ledger.Drifted > 0) throw bug ?? Wrong("the node has other totals than the ledger");
    }

    static Task TaskOf(LedgerCommand command) => (Task)command.GetType().GetProperty("Task")!.GetValue(command)!;

    internal void NoteTotals()
    {
        foreach (var user in Users)
        {
            if (!TotalsOverTime.TryGetValue(user, out var list)) TotalsOverTime[user] = list = [];
            long unread = reference.Unread(user);
            if (list.Count == 0 || list[^1].Unread != unread) list.Add((reference.Head, unread));
        }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        EndAsleep();
        history.Dispose();
        disk.Dispose();
        seal.Dispose();
        Directory.Delete(folder, recursive: true);
    }
}
