using System.Diagnostics.CodeAnalysis;
using Google.Protobuf;
using Google.Protobuf.Collections;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Core.Links;

/// <summary>What nodes tell each other, as messages of the link and back.</summary>
public static class LinkCodec
{
    /// <summary>An entry.</summary>
    public static Frames.Entry Of(OutgoingEntry entry) => new()
    {
        Kind = (int)entry.Kind,
        Position = entry.Position.Value,
        Time = entry.Time.Micros,
        IdHigh = (ulong)(entry.Id.Value >> 64),
        IdLow = (ulong)entry.Id.Value,
        Cursor = entry.Cursor,
        Body = UnsafeByteOperations.UnsafeWrap(entry.Body),
    };

    /// <summary>An entry.</summary>
    public static OutgoingEntry Read(Frames.Entry entry) => new((EntryKind)entry.Kind, new Position(entry.Position),
        new StoredTime(entry.Time), new NotificationId(new UInt128(entry.IdHigh, entry.IdLow)), entry.Cursor, entry.Body.ToByteArray());

    /// <summary>A message.</summary>
    [return: NotNullIfNotNull(nameof(message))]
    public static Frames.Message? Of(ControlMessage? message)
    {
        if (message is null) return null;
        var wire = new Frames.Message
        { Kind = message.Kind, Json = UnsafeByteOperations.UnsafeWrap(message.Json), Channels = Of(message.Channels) };
        if (message.Cursor is not null) wire.Cursor = message.Cursor;
        if (message.Shows is { } shown) (wire.Shows, wire.ShowsWhat) = (shown.Address, (int)shown.View);
        return wire;
    }

    /// <summary>A message.</summary>
    [return: NotNullIfNotNull(nameof(message))]
    public static ControlMessage? Read(Frames.Message? message) => message is null ? null
        : new ControlMessage(message.Kind, message.HasCursor ? message.Cursor : null, message.Json.ToByteArray())
        {
            Channels = Read(message.Channels),
            Shows = message.HasShows ? new ChannelContent(message.Shows, (ChannelView)message.ShowsWhat) : null,
        };

    /// <summary>A list of channels.</summary>
    [return: NotNullIfNotNull(nameof(channels))]
    public static Frames.Channels? Of(ChannelList? channels) =>
        channels is null ? null : new Frames.Channels { All = { channels.All }, Subscribed = { channels.Subscribed } };

    /// <summary>A list of channels.</summary>
    [return: NotNullIfNotNull(nameof(channels))]
    public static ChannelList? Read(Frames.Channels? channels) =>
        channels is null ? null : new ChannelList(channels.All, channels.Subscribed);

    /// <summary>Totals.</summary>
    public static Frames.Totals Of(Totals totals) => new() { Unread = totals.Unread, AsOf = totals.AsOf.Micros, Rev = totals.Rev };

    /// <summary>Totals.</summary>
    public static Totals Read(Frames.Totals totals) => new(totals.Unread, new StoredTime(totals.AsOf), totals.Rev);

    /// <summary>What a session may be sent.</summary>
    [return: NotNullIfNotNull(nameof(sight))]
    public static Frames.Sight? Of(Sight? sight)
    {
        if (sight is null) return null;
        var wire = new Frames.Sight
        {
            On = { sight.On },
            PeopleOf = { sight.Watched.Where(w => !w.Value).Select(w => w.Key) },
            CountOf = { sight.Watched.Where(w => w.Value).Select(w => w.Key) },
        };
        foreach (var (id, log) in sight.Logs)
        {
            var one = new Frames.LogSight { Log = id };
            Add(one.Segments, log.Segments);
            Add(one.Skipped, log.Skipped);
            wire.Logs.Add(one);
        }
        return wire;
    }

    /// <summary>What a session may be sent.</summary>
    [return: NotNullIfNotNull(nameof(sight))]
    public static Sight? Read(Frames.Sight? sight) => sight is null ? null
        : new Sight(sight.Logs.ToDictionary(l => l.Log, l => new LogSight(Segments(l.Segments), Runs(l.Skipped))), sight.On.ToHashSet(),
            sight.PeopleOf.Select(a => (a, false)).Concat(sight.CountOf.Select(a => (a, true))).ToDictionary(w => w.Item1, w => w.Item2));

    /// <summary>A plan.</summary>
    [return: NotNullIfNotNull(nameof(plan))]
    public static Frames.ReadPlan? Of(ReadPlan? plan)
    {
        if (plan is null) return null;
        var wire = new Frames.ReadPlan
        {
            Person = plan.Person,
            Space = plan.Space,
            Version = plan.Version,
            Head = plan.Head.Value,
            Totals = Of(plan.Totals.Totals),
            ByAddress = { plan.Totals.By.Select(b => b.Key) },
            ByCount = { plan.Totals.By.Select(b => b.Value) },
            RolesChangedAt = plan.RolesChangedAt,
            Channels = Of(plan.Channels),
        };
        foreach (var log in plan.Logs) wire.Logs.Add(Of(log));
        return wire;
    }

    static Frames.PlannedLog Of(PlannedLog log)
    {
        var wire = new Frames.PlannedLog
        {
            Log = log.Log,
            Addresses = { log.Addresses },
            Trimmed = log.Trimmed,
            LostOrdinal = log.Lost.Ordinal,
            LostPosition = log.Lost.Position,
            LostTime = log.Lost.Time.Micros,
            OnlySubscribed = log.SubscribedMuted is not null,
        };
        Add(wire.Segments, log.Segments);
        if (log.SubscribedMuted is { } muted)
        {
            var runs = new List<OrdinalRun>();
            muted.Runs(log.Segments[0].Lo, log.Segments[0].Hi, present: true, runs);
            Add(wire.Muted, runs);
        }
        return wire;
    }

    /// <summary>A plan.</summary>
    [return: NotNullIfNotNull(nameof(plan))]
    public static ReadPlan? Read(Frames.ReadPlan? plan) => plan is null ? null
        : new ReadPlan(plan.Person, plan.Space, plan.Version, [.. plan.Logs.Select(Read)], new Position(plan.Head),
            new TotalsBy(Read(plan.Totals), [.. plan.ByAddress.Zip(plan.ByCount, KeyValuePair.Create)]), plan.RolesChangedAt,
            Read(plan.Channels));

    static PlannedLog Read(Frames.PlannedLog log)
    {
        var read = new PlannedLog(log.Log, [.. log.Addresses], Segments(log.Segments), log.Trimmed,
            new LostNotification(log.LostOrdinal, log.LostPosition, new StoredTime(log.LostTime)));
        if (!log.OnlySubscribed) return read;
        var muted = new OrdinalSet();
        foreach (var run in Runs(log.Muted)) muted.Add(run);
        return read with { SubscribedMuted = muted };
    }

    /// <summary>The contents of a credential.</summary>
    public static Frames.Identity Of(Ledgers.Identity identity) => new()
    {
        User = identity.User.Value,
        NamesRoles = identity.Roles is not null,
        Roles = { identity.Roles ?? [] },
        IssuedAt = identity.IssuedAtMicros,
        Claims = identity.Claims,
    };

    /// <summary>The contents of a credential.</summary>
    public static Ledgers.Identity Read(Frames.Identity identity) => new(new UserId(identity.User),
        identity.NamesRoles ? [.. identity.Roles] : null, identity.IssuedAt, identity.Claims);

    /// <summary>A refusal.</summary>
    public static Frames.Problem Of(Problem problem)
    {
        var wire = new Frames.Problem
        {
            Status = problem.Status,
            Slug = problem.Slug,
            Title = problem.Title,
            Detail = problem.Detail,
            Fix = problem.Fix,
            Fields = { problem.Errors.SelectMany(e => new[] { e.Field, e.Detail }) },
        };
        if (problem.RetryAfterSeconds is { } seconds) wire.RetryAfter = seconds;
        return wire;
    }

    /// <summary>A refusal.</summary>
    public static Problem Read(Frames.Problem problem) => new(problem.Status, problem.Slug, problem.Title, problem.Detail, problem.Fix)
    {
        RetryAfterSeconds = problem.HasRetryAfter ? problem.RetryAfter : null,
        Errors = [.. problem.Fields.Chunk(2).Select(f => new FieldError(f[0], f[1]))],
    };

    /// <summary>What a device acknowledged.</summary>
    public static Frames.Acked Of(string space, string user, string device, bool handled, IReadOnlyList<AckedRun> runs)
    {
        var wire = new Frames.Acked { Space = space, User = user, Device = device, Handled = handled };
        foreach (var (log, run) in runs) wire.Runs.Add([log, run.From, run.To]);
        return wire;
    }

    /// <summary>The runs that a device acknowledged.</summary>
    public static List<AckedRun> Read(Frames.Acked acked) =>
        [.. acked.Runs.Chunk(3).Select(r => new AckedRun(r[0], new OrdinalRun(r[1], r[2])))];

    static void Add(RepeatedField<long> to, IReadOnlyList<Segment> segments)
    {
        foreach (var s in segments) to.Add([s.Lo, s.Hi, s.AddressIndex]);
    }

    static void Add(RepeatedField<long> to, IReadOnlyList<OrdinalRun> runs)
    {
        foreach (var run in runs) to.Add([run.From, run.To]);
    }

    static List<Segment> Segments(RepeatedField<long> from) => [.. from.Chunk(3).Select(s => new Segment(s[0], s[1], (int)s[2]))];

    static List<OrdinalRun> Runs(RepeatedField<long> from) => [.. from.Chunk(2).Select(r => new OrdinalRun(r[0], r[1]))];
}
