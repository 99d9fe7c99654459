using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Npgsql;
using Rovett.Service.Diagnostics;
using Rovett.Service.Events;

namespace Rovett.Service.Intakes.Outbox;

/// <summary>Takes the rows of an outbox in their order, and removes each once what came of it is on disk. Transactions commit late: no row
/// is taken to be the last of all before it, every round begins at the lowest number that is there.</summary>
sealed class OutboxSource(OutboxKind kind, Inlet inlet) : IIntakeSource
{
    const string Batch = "batch";

    readonly Every counting = new(TimeSpan.FromSeconds(5), inlet.Clock), clearing = new(TimeSpan.FromMinutes(1), inlet.Clock);
    NpgsqlConnection? connection;

    bool Keeps => kind.Keep > TimeSpan.Zero;

    public async Task Run(CancellationToken drain)
    {
        var db = await Connect(drain);
        if (!await Lock(db, drain))
        {
            throw new IntakeFailure($"another reader has {kind.Table}; an outbox has one reader, or its order would be lost");
        }
        await Settle(db, drain);
        await Execute(db, $"LISTEN {OutboxSql.Channel(kind.Table)}", drain);
        inlet.Progress.Is(IntakeState.Running);
        while (!drain.IsCancellationRequested)
        {
            var rows = await Rows(db, drain);
            if (rows.Count > 0) await Take(db, rows);
            await Count(db, rows.Count, drain);
            inlet.Progress.HasTold();
            if (rows.Count > 0) continue;
            await Clear(db, drain);
            await db.WaitAsync(kind.Poll, drain);
        }
    }

    async Task<NpgsqlConnection> Connect(CancellationToken stop)
    {
        connection = new NpgsqlConnection(kind.ConnectionString());
        await connection.OpenAsync(stop);
        return connection;
    }

    async Task<bool> Lock(NpgsqlConnection db, CancellationToken stop)
    {
        await using var ask = new NpgsqlCommand("SELECT pg_try_advisory_lock(hashtextextended($1, 7411))", db);
        ask.Parameters.Add(new NpgsqlParameter { Value = "rovett " + kind.Table });
        return (bool)(await ask.ExecuteScalarAsync(stop))!;
    }

    /// <summary>Of rows that were taken before the connection was lost the database may not have heard.</summary>
    async Task Settle(NpgsqlConnection db, CancellationToken stop)
    {
        if (!(await inlet.Places()).TryGetValue(Batch, out var stored)) return;
        var place = JsonNode.Parse(stored)!;
        await Remove(db, [.. place["ids"]!.AsArray().Select(i => (long)i!)],
            new DateTime((long)place["upTo"]!, DateTimeKind.Utc), stop);
    }

    async Task<List<OutboxRow>> Rows(NpgsqlConnection db, CancellationToken stop)
    {
        await using var ask = new NpgsqlCommand(
            $"SELECT id, key, event::text, added FROM {kind.Table}{(Keeps ? " WHERE taken IS NULL" : "")} ORDER BY id LIMIT $1", db);
        ask.Parameters.Add(new NpgsqlParameter { Value = inlet.Settings.Batch });
        var rows = new List<OutboxRow>();
        await using var reader = await ask.ExecuteReaderAsync(stop);
        while (await reader.ReadAsync(stop))
        {
            rows.Add(new OutboxRow(reader.GetInt64(0), reader.GetGuid(1), reader.GetString(2), reader.GetDateTime(3)));
        }
        return rows;
    }

    async Task Take(NpgsqlConnection db, List<OutboxRow> rows)
    {
        await inlet.Take([.. rows.Select((row, i) => new SourceItem(new RawEvent(Complete(row)))
        {
            Origin = row.Key.ToString(),
            Since = row.Added,
            Part = Batch,
            Place = () => PlaceOf(rows.GetRange(0, i + 1)),
        })]);
        // It is on disk: this much is finished, whoever wants to stop.
        await Remove(db, [.. rows.Select(r => r.Id)], rows.Max(r => r.Added), CancellationToken.None);
    }

    static string PlaceOf(List<OutboxRow> taken) => new JsonObject
    {
        ["ids"] = new JsonArray([.. taken.Select(r => (JsonNode)r.Id)]),
        ["upTo"] = taken.Max(r => r.Added).Ticks,
    }.ToJsonString();

    /// <summary>The event of a row. Its key is the id of one that has none.</summary>
    static byte[] Complete(OutboxRow row)
    {
        try
        {
            if (JsonNode.Parse(row.Event) is not JsonObject found) return Encoding.UTF8.GetBytes(row.Event);
            if (found.ContainsKey("id") && found.ContainsKey("specversion")) return Encoding.UTF8.GetBytes(row.Event);
            found.TryAdd("specversion", "1.0");
            found.TryAdd("id", row.Key.ToString());
            return Encoding.UTF8.GetBytes(found.ToJsonString());
        }
        catch (Exception error) when (error is JsonException or ArgumentException or InvalidOperationException)
        {
            return Encoding.UTF8.GetBytes(row.Event); // what is wrong is told when it is read
        }
    }

    async Task Remove(NpgsqlConnection db, long[] ids, DateTime upTo, CancellationToken stop)
    {
        const string which = "id = ANY($1) AND added <= $2"; // never a row that was given a number again
        await using var remove = new NpgsqlCommand(Keeps ? $"UPDATE {kind.Table} SET taken = now() WHERE taken IS NULL AND {which}"
            : $"DELETE FROM {kind.Table} WHERE {which}", db);
        remove.Parameters.Add(new NpgsqlParameter { Value = ids });
        remove.Parameters.Add(new NpgsqlParameter { Value = upTo });
        await remove.ExecuteNonQueryAsync(stop);
    }

    /// <summary>How much waits: known when less came than could; counted now and then otherwise.</summary>
    async Task Count(NpgsqlConnection db, int came, CancellationToken stop)
    {
        if (came < inlet.Settings.Batch)
        {
            inlet.Progress.HasBehind(0);
            return;
        }
        if (!counting.IsDue()) return;
        await using var ask = new NpgsqlCommand($"SELECT count(*) FROM {kind.Table}{(Keeps ? " WHERE taken IS NULL" : "")}", db);
        inlet.Progress.HasBehind((long)(await ask.ExecuteScalarAsync(stop))!);
    }

    async Task Clear(NpgsqlConnection db, CancellationToken stop)
    {
        if (!Keeps || !clearing.IsDue()) return;
        await using var clear = new NpgsqlCommand($"DELETE FROM {kind.Table} WHERE taken < now() - $1", db);
        clear.Parameters.Add(new NpgsqlParameter { Value = kind.Keep });
        await clear.ExecuteNonQueryAsync(stop);
    }

    static async Task Execute(NpgsqlConnection db, string sql, CancellationToken stop)
    {
        await using var command = new NpgsqlCommand(sql, db);
        await command.ExecuteNonQueryAsync(stop);
    }

    public async Task<IReadOnlyList<string>> Test(CancellationToken stop)
    {
        var db = await Connect(stop);
        var found = new List<string>
        {
            $"connected to {kind.Host}:{kind.Port}/{kind.Database} as {kind.User}, PostgreSQL {db.PostgreSqlVersion}",
        };
        await using var ask = new NpgsqlCommand($"SELECT count(*) FROM {kind.Table}{(Keeps ? " WHERE taken IS NULL" : "")}", db);
        var count = (long)(await ask.ExecuteScalarAsync(stop))!;
        found.Add(string.Create(CultureInfo.InvariantCulture, $"{kind.Table} has {count} rows to be taken"));
        await using var may = new NpgsqlCommand(
            "SELECT has_table_privilege($1, 'DELETE') OR has_column_privilege($1, 'taken', 'UPDATE')", db);
        may.Parameters.Add(new NpgsqlParameter { Value = kind.Table });
        if (!(bool)(await may.ExecuteScalarAsync(stop))!)
        {
            throw new IntakeFailure($"{kind.User} may not remove rows of {kind.Table}; grant it: GRANT SELECT, DELETE, UPDATE (taken) ON " +
                $"{kind.Table} TO {kind.User}");
        }
        found.Add($"{kind.User} may delete rows");
        return found;
    }

    public bool IsFailure(Exception error) => error is NpgsqlException or System.Net.Sockets.SocketException or IOException
        or TimeoutException;

    public async ValueTask DisposeAsync()
    {
        if (connection is not null) await connection.DisposeAsync();
    }

    sealed record OutboxRow(long Id, Guid Key, string Event, DateTime Added);
}
