using System.Buffers;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
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

/// <summary>What the console shows moving: how much is sent, and the newest notifications with their counts. The notifications of a space
/// are kept only while somebody looks at them: what happens to one is noted, and read by the next look. Hears of everything on the ledger's
/// thread.</summary>
public sealed class ActivityMonitor(TimeProvider clock, SqlHistory history, RecentBySpace recent, ReceiptNews receipts,
    OutboundNews outbound, ServiceMeters meters) : ILedgerObserver
{
    /// <summary>How many notifications are kept for each space that is looked at.</summary>
    public const int Kept = 100;

    /// <summary>How long they are kept after the last look, and how long one reading serves everybody who looks.</summary>
    static readonly TimeSpan LookedAtFor = TimeSpan.FromMinutes(1), Shared = TimeSpan.FromMilliseconds(200);

    sealed class Row(EntryRow entry, OutgoingEntry? live)
    {
        public readonly EntryRow Entry = entry;
        public readonly OutgoingEntry? Live = live;
        public long Received, Read;
        public EntryKind? Change;
        public bool IsStale = true; // something happened to it since its counts and its last change were read
    }

    /// <summary>The newest notifications of a space.</summary>
    sealed class Newest(int space)
    {
        public readonly int Space = space; // another one may get the same name
        public readonly SortedList<long, Row> Rows = [];
        public readonly Dictionary<(long Log, long Ordinal), Row> ByPlace = [];
        public readonly Dictionary<NotificationId, Row> ById = [];
        public readonly Lock Reading = new();
        public bool IsLoaded;
        public long LookedAt, ReadAt;
        public int Erasures;

        public void Add(Row row)
        {
            if (!Rows.TryAdd(row.Entry.Position.Value, row)) return;
            ById[row.Entry.Id] = row;
            foreach (var place in row.Entry.Placements) ByPlace[(place.Log, place.Ordinal)] = row;
            if (Rows.Count > Kept) Remove(Rows.Values[0]);
        }

        public void Remove(Row row)
        {
            Rows.Remove(row.Entry.Position.Value);
            ById.Remove(row.Entry.Id);
            foreach (var place in row.Entry.Placements) ByPlace.Remove((place.Log, place.Ordinal));
        }
    }

    sealed class Space
    {
        public Newest? Newest;
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

    /// <inheritdoc/>
    public void Stored(string space, OutgoingEntry notification, Addressing addressing, IReadOnlyList<Placement> placements)
    {
        lock (gate)
        {
            var state = Of(space);
            state.StoredSinceStart++;
            meters.WasStored(space, notification.Time, placements);
            state.Count(Second, 1);
            if (state.Newest is not { } newest) return;
            if (clock.GetElapsedTime(newest.LookedAt) > LookedAtFor) state.Newest = null;
            else
            {
                newest.Add(new Row(new EntryRow(notification.Position, notification.Time, EntryKind.Notification, notification.Id,
                    notification.Body, addressing, [.. placements], NotificationTraits.None), notification));
            }
        }
    }

    /// <inheritdoc/>
    public void Changed(string space, OutgoingEntry change)
    {
        lock (gate)
        {
            if (Of(space).Newest?.ById.TryGetValue(change.Id, out var row) == true) row.IsStale = true;
        }
    }

    /// <inheritdoc/>
    public void Erased(string space, string user)
    {
        lock (gate)
        {
            if (Of(space).Newest is not { } newest) return;
            newest.Erasures++;
            foreach (var row in newest.Rows.Values.Where(r => r.Entry.Addressing.Names("user:" + user)).ToList()) newest.Remove(row);
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
            if (Of(space).Newest is not { } newest) return;
            // A run can be long; what is kept is short.
            if (run.Count > Kept)
            {
                foreach (var (place, row) in newest.ByPlace)
                {
                    if (place.Log == log && place.Ordinal >= run.From && place.Ordinal <= run.To) row.IsStale = true;
                }
                return;
            }
            for (long ordinal = run.From; ordinal <= run.To; ordinal++)
            {
                if (newest.ByPlace.TryGetValue((log, ordinal), out var row)) row.IsStale = true;
            }
        }
    }

    Space Of(string space)
    {
        if (!spaces.TryGetValue(space, out var state)) spaces[space] = state = new Space();
        return state;
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
    public (bool Sent, bool Received) Ever(SpaceRuntime space)
    {
        var newest = LookAt(space, TimeSpan.Zero);
        lock (gate) return (newest.Rows.Count > 0, newest.Rows.Values.Any(r => r.Received > 0));
    }

    /// <summary>Brings the newest notifications of a space up to date.</summary>
    /// <param name="space">The space.</param>
    /// <param name="maxAge">How old the last reading may be to serve for this look.</param>
    Newest LookAt(SpaceRuntime space, TimeSpan maxAge)
    {
        Newest newest;
        lock (gate)
        {
            var state = Of(space.Name);
            if (state.Newest?.Space != space.Id) state.Newest = new Newest(space.Id); // from here on, what happens is noted
            newest = state.Newest;
            newest.LookedAt = clock.GetTimestamp();
        }
        lock (newest.Reading)
        {
            if (!newest.IsLoaded) Load(newest, recent.Of(space.Name));
            else if (clock.GetElapsedTime(newest.ReadAt) < maxAge) return newest;
            newest.ReadAt = clock.GetTimestamp();
            Refresh(newest);
        }
        return newest;
    }

    void Load(Newest newest, RecentEntries inMemory)
    {
        while (!newest.IsLoaded)
        {
            int erasures;
            lock (gate) erasures = newest.Erasures;
            var entries = history.Newest(newest.Space, Kept);
            lock (gate)
            {
                if (newest.Erasures != erasures) continue; // it may have been read before
                foreach (var entry in entries) newest.Add(new Row(entry, inMemory.Find(entry.Position.Value)));
                newest.IsLoaded = true;
            }
        }
    }

    /// <summary>Reads the counts and last changes of stale rows again.</summary>
    void Refresh(Newest newest)
    {
        List<Row> stale;
        lock (gate)
        {
            stale = [.. newest.Rows.Values.Where(r => r.IsStale)];
            foreach (var row in stale) row.IsStale = false; // before it is read: what happens meanwhile is for the next look
        }
        try
        {
            foreach (var row in stale)
            {
                var (people, change) = (history.People(row.Entry.Placements), history.LastChange(row.Entry));
                lock (gate) (row.Received, row.Read, row.Change) = (people.Received, people.Read, change);
            }
        }
        catch
        {
            lock (gate) stale.ForEach(r => r.IsStale = true);
            throw;
        }
    }

    /// <summary>Writes what the console shows of a space.</summary>
    public byte[] Snapshot(SpaceRuntime space, SessionRegistry sessions)
    {
        var newest = LookAt(space, Shared);
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
                json.WriteNumber("storedSinceStart", Of(space.Name).StoredSinceStart);
                json.WriteStartArray("notifications");
                foreach (var row in newest.Rows.Values.Reverse()) WriteRow(json, row);
                json.WriteEndArray();
            }
            json.WriteEndObject();
        }
        return buffer.WrittenSpan.ToArray();
    }

    static void WriteRow(Utf8JsonWriter json, Row row)
    {
        var entry = row.Entry;
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
