using System.Buffers;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Wire;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;
using Rovett.Service.Live;
using Rovett.Service.Meters;
using Rovett.Service.Outbound;
using Rovett.Service.Receipts;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>The newest notifications of each space with their counts, kept current as things happen: what the console
/// shows moving. Hears of everything on the ledger's thread.</summary>
public sealed class ActivityMonitor(TimeProvider clock, ReceiptNews receipts, OutboundNews outbound, ServiceMeters meters)
    : ILedgerObserver
{
    /// <summary>How many notifications are kept for each space.</summary>
    public const int Kept = 100;

    sealed class Row(OperatorItem item, OutgoingEntry? live)
    {
        public readonly OperatorItem Item = item;
        public readonly OutgoingEntry? Live = live;
        public long Received = item.People.Received, Read = item.People.Read;
        public EntryKind? Change;
    }

    sealed class Space
    {
        public readonly LinkedList<Row> Newest = new();
        public readonly Dictionary<(long, long), Row> ByPlace = [];
        public readonly Dictionary<NotificationId, Row> ById = [];
        public long StoredSinceStart;
        public readonly long[] PerSecond = new long[60];
        public long Second;

        /// <summary>Counts one, and forgets the seconds that went by.</summary>
        public void Count(long second, int more)
        {
            for (long s = Math.Max(Second + 1, second - PerSecond.Length + 1); s <= second; s++) PerSecond[s % PerSecond.Length] = 0;
            Second = Math.Max(Second, second);
            if (second > Second - PerSecond.Length) PerSecond[second % PerSecond.Length] += more;
        }
    }

    readonly Lock gate = new();
    readonly Dictionary<string, Space> spaces = [];
    readonly StoredTime since = StoredTime.From(clock.GetUtcNow());

    /// <summary>Fills in the newest that were stored before this start.</summary>
    public void Load(SpaceDirectory all, SqlHistory history, Agendas agendas)
    {
        foreach (var space in all.All.Where(s => agendas.Of(s.Name).Stored > 0)) Load(space, history);
    }

    void Load(SpaceRuntime space, SqlHistory history)
    {
        foreach (var entry in history.Newest(space.Id, Kept).Reverse())
        {
            Add(Of(space.Name), new Row(new OperatorItem(entry, history.People(entry.Placements)), null)
            { Change = history.LastChange(entry) });
        }
    }

    /// <inheritdoc/>
    public void Stored(string space, OutgoingEntry notification, Addressing addressing, IReadOnlyList<Placement> placements)
    {
        lock (gate)
        {
            var state = Of(space);
            state.StoredSinceStart++;
            meters.WasStored(space, notification.Time, placements);
            state.Count(Second, 1);
            Add(state, new Row(
                new OperatorItem(
                new EntryRow(notification.Position, notification.Time, EntryKind.Notification, notification.Id, notification.Body,
                addressing, [.. placements], NotificationTraits.None), new PeopleCounts(0, 0, 0)), notification));
        }
    }

    /// <inheritdoc/>
    public void Changed(string space, OutgoingEntry change)
    {
        lock (gate)
        {
            if (Of(space).ById.TryGetValue(change.Id, out var row)) row.Change = change.Kind;
        }
    }

    /// <inheritdoc/>
    public void Erased(string space, string user)
    {
        lock (gate)
        {
            var state = Of(space);
            foreach (var row in state.Newest.Where(
                r => r.Item.Entry.Addressing.Names("user:" + user))
                .ToList())
            {
                state.Newest.Remove(row);
                state.ById.Remove(row.Item.Entry.Id);
                foreach (var place in row.Item.Entry.Placements) state.ByPlace.Remove((place.Log, place.Ordinal));
            }
        }
    }

    /// <inheritdoc/>
    public void Receipted(string space) => receipts.Tell(space);

    /// <inheritdoc/>
    public void DeadlineEnded(string space, bool isMet) => meters.DeadlineEnded(space, isMet);

    /// <inheritdoc/>
    public void Outbound(string space) => outbound.Tell(space);

    /// <inheritdoc/>
    public void Marked(string space, long log, OrdinalRun run, MarkKind kind, int sign)
    {
        lock (gate)
        {
            if (kind == MarkKind.Received && sign > 0) meters.WasReceived(space, log, run);
            var state = Of(space);
            // A run can be long; what is kept is short.
            if (run.Count > Kept)
            {
                foreach (var ((inLog, ordinal), row) in state.ByPlace)
                {
                    if (inLog == log && ordinal >= run.From && ordinal <= run.To) Count(row, kind, sign);
                }
                return;
            }
            for (long ordinal = run.From; ordinal <= run.To; ordinal++)
            {
                if (state.ByPlace.TryGetValue((log, ordinal), out var row)) Count(row, kind, sign);
            }
        }
    }

    static void Count(Row row, MarkKind kind, int sign)
    {
        if (kind == MarkKind.Received) row.Received += sign;
        else if (kind == MarkKind.Read) row.Read += sign;
    }

    Space Of(string space)
    {
        if (!spaces.TryGetValue(space, out var state)) spaces[space] = state = new Space();
        return state;
    }

    static void Add(Space state, Row row)
    {
        state.Newest.AddFirst(row);
        state.ById[row.Item.Entry.Id] = row;
        foreach (var place in row.Item.Entry.Placements) state.ByPlace[(place.Log, place.Ordinal)] = row;
        if (state.Newest.Count <= Kept) return;
        state.ById.Remove(state.Newest.Last!.Value.Item.Entry.Id);
        foreach (var place in state.Newest.Last!.Value.Item.Entry.Placements) state.ByPlace.Remove((place.Log, place.Ordinal));
        state.Newest.RemoveLast();
    }

    long Second => clock.GetUtcNow().ToUnixTimeSeconds();

    /// <summary>How many notifications of a space were stored since the start, and in the last 60 seconds.</summary>
    public (long SinceStart, long LastMinute) Sent(string space)
    {
        lock (gate)
        {
            var state = Of(space);
            state.Count(Second, 0);
            return (state.StoredSinceStart, state.PerSecond.Sum());
        }
    }

    /// <summary>Whether any of the newest notifications of a space was sent, and received by anybody.</summary>
    public (bool Sent, bool Received) Ever(string space)
    {
        lock (gate)
        {
            var newest = Of(space).Newest;
            return (newest.Count > 0, newest.Any(r => r.Received > 0));
        }
    }

    /// <summary>Writes what the console shows of a space.</summary>
    public byte[] Snapshot(SpaceRuntime space, SessionRegistry sessions)
    {
        var live = sessions.In(space.Name).OrderBy(s => s.Since.Micros).ToList();
        var buffer = new ArrayBufferWriter<byte>(4096);
        using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            json.WriteString("space", space.Name);
            json.WriteString("since", since.ToString());
            json.WriteNumber("users", live.Select(s => s.User).Distinct().Count());
            json.WriteStartArray("sessions");
            foreach (var session in live.Take(200))
            {
                JsonSerializer.Serialize(json, SessionAnswer.Of(session), BackendJson.Default.SessionAnswer);
            }
            json.WriteEndArray();
            json.WriteNumber("sessionCount", live.Count);
            lock (gate)
            {
                var state = Of(space.Name);
                json.WriteNumber("storedSinceStart", state.StoredSinceStart);
                json.WriteStartArray("notifications");
                foreach (var row in state.Newest) WriteRow(json, row);
                json.WriteEndArray();
            }
            json.WriteEndObject();
        }
        return buffer.WrittenSpan.ToArray();
    }

    static void WriteRow(Utf8JsonWriter json, Row row)
    {
        var entry = row.Item.Entry;
        json.WriteStartObject();
        json.WriteString("id", entry.Id.ToString());
        json.WriteNumber("position", entry.Position.Value);
        json.WriteString("time", entry.Time.ToString());
        json.WriteString("addressing", entry.Addressing.Lines);
        StoredBody.Write(json, entry.Body);
        // Received implies dispatched, and what was dispatched before a restart is known only by what came back.
        json.WriteNumber("dispatched", Math.Max(row.Live?.Dispatched ?? 0, row.Received));
        json.WriteNumber("received", row.Received);
        json.WriteNumber("read", row.Read);
        if (row.Change is { } change and not EntryKind.Released) json.WriteString("state", OutgoingEntry.NameOf(change));
        json.WriteEndObject();
    }
}
