using Npgsql;
using Rovett.Storage.Access;

namespace Rovett.Storage.Postgres;

/// <summary>Follows the versions of what processes keep in memory: woken by the server's notifications, and by itself every second,
/// as a notification can be lost with a connection and a version can't.</summary>
sealed class PostgresWatch : IAccessWatch
{
    /// <summary>The longest time that a change stays unseen while the server can be reached.</summary>
    static readonly TimeSpan Every = TimeSpan.FromSeconds(1);

    static readonly TimeSpan Soon = TimeSpan.FromMilliseconds(5);

    // What is beyond is read with the next question.
    const int Most = 1000;

    readonly string settings;
    readonly CancellationTokenSource stop = new();
    Task work = Task.CompletedTask;
    long known;
    bool disposed;

    /// <summary>Reads the newest version.</summary>
    /// <param name="settings">The connection string.</param>
    public PostgresWatch(string settings)
    {
        // Nothing is asked while it waits, so that there is nothing to cancel, and no answer to wait for, when it ends.
        this.settings = new NpgsqlConnectionStringBuilder(settings) { CommandTimeout = 5, KeepAlive = 5, CancellationTimeout = -1 }
            .ConnectionString;
        using var connection = new NpgsqlConnection(settings);
        connection.Open();
        using var head = new NpgsqlCommand("SELECT version FROM access_head", connection);
        known = (long)head.ExecuteScalar()!;
    }

    /// <inheritdoc/>
    public void Follow(Func<IReadOnlyList<AccessChange>, Task> changed, Action<Exception> failed) => work = Run(changed, failed);

    async Task Run(Func<IReadOnlyList<AccessChange>, Task> changed, Action<Exception> failed)
    {
        await Task.Yield();
        bool failedBefore = false;
        while (!stop.IsCancellationRequested)
        {
            try
            {
                await using var connection = new NpgsqlConnection(settings);
                await connection.OpenAsync(stop.Token);
                await using (var listen = new NpgsqlCommand("LISTEN rovett_access", connection))
                {
                    await listen.ExecuteNonQueryAsync(stop.Token);
                }
                for (; ; )
                {
                    while (await Read(connection, changed))
                    {
                        // There was more than one question can answer.
                    }
                    failedBefore = false;
                    await connection.WaitAsync(Every, stop.Token);
                }
            }
            catch (OperationCanceledException) when (stop.IsCancellationRequested)
            {
                return;
            }
            catch (Exception) when (!failedBefore)
            {
                failedBefore = true; // a connection ends now and then; another takes its place at once
            }
            catch (Exception error)
            {
                failed(error);
                await Task.Delay(Every, stop.Token).ContinueWith(static _ => { }, TaskScheduler.Default);
            }
        }
    }

    /// <inheritdoc/>
    public async Task CatchUp()
    {
        long head;
        await using (var connection = new NpgsqlConnection(settings))
        {
            await connection.OpenAsync(stop.Token);
            await using var ask = new NpgsqlCommand("SELECT version FROM access_head", connection);
            head = (long)(await ask.ExecuteScalarAsync(stop.Token))!;
        }
        while (Volatile.Read(ref known) < head) await Task.Delay(Soon, stop.Token);
    }

    async Task<bool> Read(NpgsqlConnection connection, Func<IReadOnlyList<AccessChange>, Task> changed)
    {
        var changes = new List<AccessChange>();
        long head = 0, upTo = known;
        await using (var command = new NpgsqlCommand("SELECT h.version, v.space, v.kind, v.version FROM access_head h LEFT JOIN LATERAL " +
            "(SELECT space, kind, version FROM access_version WHERE version>$1 ORDER BY version LIMIT $2) v ON true ORDER BY v.version",
            connection)
        { Parameters = { new() { Value = known }, new() { Value = (long)Most } } })
        await using (var reader = await command.ExecuteReaderAsync(stop.Token))
        {
            while (await reader.ReadAsync(stop.Token))
            {
                head = reader.GetInt64(0);
                if (reader.IsDBNull(1)) break; // nothing is newer
                changes.Add(new AccessChange(reader.GetString(1), reader.GetString(2)));
                upTo = reader.GetInt64(3);
            }
        }
        if (head < known)
        {
            // Another server, which lags behind: what it lacks may be anything.
            (changes, upTo) = ([new AccessChange("", null)], head);
        }
        if (changes.Count > 0) await changed(changes);
        Volatile.Write(ref known, upTo);
        return changes.Count == Most;
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref disposed, true)) return;
        await stop.CancelAsync();
        await work;
        stop.Dispose();
    }
}
