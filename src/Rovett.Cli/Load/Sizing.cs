namespace Rovett.Cli.Load;

/// <summary>How a service is used, on average over a day.</summary>
/// <param name="Users">People who are known.</param>
/// <param name="Sessions">Devices connected at a time, at most.</param>
/// <param name="SendsADay">Notifications sent a day.</param>
/// <param name="FanOut">People whom a notification reaches.</param>
/// <param name="Peak">How many times the average of the day is sent in the busiest minutes.</param>
/// <param name="ContentBytes">Bytes of a notification's title, body, data and link.</param>
/// <param name="DaysKept">Days for which notifications are kept.</param>
/// <param name="OnDatabase">Everything is stored in PostgreSQL.</param>
sealed record Usage(long Users, long Sessions, double SendsADay, double FanOut, double Peak, int ContentBytes, double DaysKept,
    bool OnDatabase);

/// <summary>A number that a size was worked out with.</summary>
/// <param name="What">What it is.</param>
/// <param name="Value">Its value.</param>
/// <param name="Unit">Its unit.</param>
sealed record Constant(string What, double Value, string Unit);

/// <summary>Works out what a service needs from how it is used, with constants measured on two shared cores (docs/planning.md).</summary>
/// <param name="usage">How it is used.</param>
sealed class Sizing(Usage usage)
{
    // Measured: docs/performance.md, docs/scale.md and docs/planning.md name the runs.
    public static readonly Constant
        Send = new("a send to one connected person, data folder", 280, "µs"),
        SendOnDatabase = new("a send to one connected person, PostgreSQL", 440, "µs"),
        Frame = new("each further session that it is written to", 24, "µs"),
        Connect = new("a session that connects", 200, "µs"),
        Base = new("the service without sessions", 160, "MB"),
        Session = new("a connected session", 20, "KB"),
        Person = new("a person who was there lately, at most 100,000 of them", 4, "KB"),
        Stored = new("a stored notification, beside its content", 220, "bytes"),
        Mark = new("what one person acknowledges and reads of a notification", 60, "bytes"),
        Known = new("a known person with two roles", 480, "bytes"),
        Wire = new("a delivery on the wire, beside its content", 300, "bytes"),
        Heartbeat = new("a heartbeat on the wire, every 20 s", 54, "bytes"),
        WriteAhead = new("write-ahead log of PostgreSQL for a send", 700, "bytes");

    const double SecondsADay = 86_400, HeartbeatSeconds = 20, MostInMemory = 100_000, RecentMegabytes = 67, SessionsOfANode = 50_000,
        CoresOfANode = 4;

    /// <summary>Sends a second to one person each that the ledger of a space takes, which is one thread.</summary>
    public const double SendsOfASpace = 5_900;

    /// <summary>Of the processors half is left for everything else: bursts, backups, everybody who comes back at once.</summary>
    public const double Headroom = 2;

    public static IReadOnlyList<Constant> Constants { get; } =
        [Send, SendOnDatabase, Frame, Connect, Base, Session, Person, Stored, Mark, Known, Wire, Heartbeat, WriteAhead];

    double Average => usage.SendsADay / SecondsADay;

    /// <summary>Sends a second in the busiest minutes.</summary>
    public double PeakSends => Average * usage.Peak;

    /// <summary>Connected sessions that a send reaches.</summary>
    public double Reached => usage.Users == 0 ? 0 : Math.Min(usage.Sessions, usage.FanOut * usage.Sessions / usage.Users);

    /// <summary>Deliveries a second in the busiest minutes.</summary>
    public double PeakDeliveries => PeakSends * Reached;

    double MicrosOfASend => (usage.OnDatabase ? SendOnDatabase : Send).Value + (Frame.Value * Math.Max(0, Reached - 1));

    /// <summary>Processors that are busy in the busiest minutes.</summary>
    public double Busy => ((PeakSends * MicrosOfASend) + (usage.Sessions / HeartbeatSeconds * Frame.Value)) / 1e6;

    /// <summary>Processors to have.</summary>
    public double Cores => Math.Max(1, Math.Ceiling(Busy * Headroom));

    /// <summary>MB of memory.</summary>
    public double Memory => Base.Value + RecentMegabytes + (usage.Sessions * Session.Value / 1000)
        + (Math.Min(usage.Users, MostInMemory) * Person.Value / 1000);

    /// <summary>GB that are stored once the first notifications go.</summary>
    public double Disk => ((usage.SendsADay * usage.DaysKept * BytesOfASend) + (usage.Users * Known.Value)) / 1e9;

    double BytesOfASend => Stored.Value + usage.ContentBytes + (usage.FanOut * Mark.Value);

    /// <summary>GB that are stored more each day until then.</summary>
    public double DiskADay => usage.SendsADay * BytesOfASend / 1e9;

    /// <summary>Mbit/s out in the busiest minutes.</summary>
    public double Network => ((PeakDeliveries * (usage.ContentBytes + Wire.Value)) +
        (usage.Sessions / HeartbeatSeconds * Heartbeat.Value)) * 8 / 1e6;

    /// <summary>Seconds until all sessions are back after a restart, on the processors to have.</summary>
    public double BackIn => usage.Sessions * Connect.Value / 1e6 / Cores;

    /// <summary>MB/s of write-ahead log in the busiest minutes.</summary>
    public double WriteAheadRate => PeakSends * WriteAhead.Value / 1e6;

    /// <summary>How many nodes share it; 1: one machine does.</summary>
    public int Nodes => (int)Math.Max(1, Math.Max(Math.Ceiling(Cores / CoresOfANode), Math.Ceiling(usage.Sessions / SessionsOfANode)));

    /// <summary>Connections, and files that the process may have open, to allow.</summary>
    public long Connections => (long)Math.Ceiling(usage.Sessions * 1.2 / Nodes);
}
