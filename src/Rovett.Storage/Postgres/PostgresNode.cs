using System.Data;
using Npgsql;

namespace Rovett.Storage.Postgres;

/// <summary>A process as one of several that share a database: its signs of life, and the spaces that it takes and gives. The database
/// is the only authority; all that is judged by time is judged by its clock. Two connections: one for the signs of life, which no other
/// work may hold up, and one for the rest.</summary>
public sealed class PostgresNode : IDisposable
{
    /// <summary>How nodes of this build talk to each other; for a later build that talks otherwise to know this one by.</summary>
    const int Speaks = 1;

    const string News = "rovett_nodes";
    const int TimeOutSeconds = 2;

    readonly string settings, url;
    readonly Guid incarnation;
    readonly Lock gate = new();
    NpgsqlConnection? beating, working;

    /// <summary>Joins, in place of an earlier process of the same address.</summary>
    /// <param name="settings">The connection string.</param>
    /// <param name="incarnation">What this process is called in the terms of spaces.</param>
    /// <param name="url">Where the other nodes reach it.</param>
    /// <param name="version">The program's version.</param>
    /// <param name="certificate">SHA-256 of what it shows the others; null: it talks without TLS.</param>
    /// <exception cref="NpgsqlException">The server can't be reached.</exception>
    internal PostgresNode(string settings, Guid incarnation, string url, string version, byte[]? certificate)
    {
        this.settings = new NpgsqlConnectionStringBuilder(settings) { CommandTimeout = TimeOutSeconds, Timeout = TimeOutSeconds }
            .ConnectionString;
        (this.incarnation, this.url) = (incarnation, url);
        Run("INSERT INTO node (url, incarnation, version, speaks, certificate, joined, beat) VALUES ($1, $2, $3, $4, $5, " +
            "clock_timestamp(), clock_timestamp()) ON CONFLICT (url) DO UPDATE SET incarnation=$2, version=$3, speaks=$4, " +
            "certificate=$5, joined=clock_timestamp(), beat=clock_timestamp(), leaving=false, unreached='{}'",
            url, incarnation, version, Speaks, certificate is null ? DBNull.Value : certificate);
    }

    // ---- signs of life: on a thread of their own

    /// <summary>Gives a sign of life.</summary>
    /// <exception cref="NpgsqlException">The server can't be reached.</exception>
    public Beat Beat()
    {
        if (beating?.State != ConnectionState.Open)
        {
            PostgresSql.Close(beating);
            beating = null;
            beating = Open($"SET synchronous_commit=off; LISTEN {News}");
        }
        using var batch = new NpgsqlBatch(beating)
        {
            BatchCommands =
            {
                new NpgsqlBatchCommand("UPDATE node SET beat=clock_timestamp() WHERE url=$1 AND incarnation=$2 RETURNING 1")
                { Parameters = { new() { Value = url }, new() { Value = incarnation } } },
                new NpgsqlBatchCommand("SELECT space, term FROM space_owner WHERE incarnation=$1")
                { Parameters = { new() { Value = incarnation } } },
            },
        };
        using var reader = batch.ExecuteReader();
        bool isKnown = reader.Read();
        reader.NextResult();
        var owned = new Dictionary<int, long>();
        while (reader.Read()) owned[(int)reader.GetInt64(0)] = reader.GetInt64(1);
        return new Beat(isKnown, owned);
    }

    /// <summary>Waits until a node has something to tell, or a time has passed.</summary>
    /// <returns>True when there is something.</returns>
    public bool WaitForNews(TimeSpan atMost) => beating!.Wait(atMost);

    /// <summary>Ends the connection for signs of life.</summary>
    public void EndBeats() => PostgresSql.Close(beating);

    // ---- the rest: one thread at a time

    /// <summary>Reads the nodes and the spaces.</summary>
    /// <exception cref="NpgsqlException">The server can't be reached.</exception>
    public ClusterNow Look()
    {
        lock (gate)
        {
            using var batch = new NpgsqlBatch(Working())
            {
                BatchCommands =
                {
                    new NpgsqlBatchCommand("SELECT url, incarnation, version, certificate, " +
                        "extract(epoch from clock_timestamp()-joined)::float8, extract(epoch from clock_timestamp()-beat)::float8, " +
                        "leaving, EXISTS (SELECT 1 FROM pg_stat_activity WHERE application_name=$1||replace(incarnation::text, '-', ''))" +
                        ", unreached FROM node ORDER BY url") { Parameters = { new() { Value = NamePrefix } } },
                    // What belongs to no space goes with the space main.
                    new NpgsqlBatchCommand("SELECT s.id, s.name, o.term, o.incarnation, o.wanted FROM space s LEFT JOIN space_owner o " +
                        "ON o.space=s.id ORDER BY s.id"),
                    new NpgsqlBatchCommand("SELECT epoch, clock_timestamp() FROM store"),
                },
            };
            var (nodes, spaces) = (new List<NodeRow>(), new List<OwnedSpace>());
            using var reader = batch.ExecuteReader();
            while (reader.Read())
            {
                nodes.Add(new NodeRow(reader.GetString(0), reader.GetGuid(1), reader.GetString(2),
                    reader.IsDBNull(3) ? null : reader.GetFieldValue<byte[]>(3), TimeSpan.FromSeconds(reader.GetDouble(4)),
                    TimeSpan.FromSeconds(reader.GetDouble(5)), reader.GetBoolean(6), reader.GetBoolean(7),
                    reader.GetFieldValue<Guid[]>(8)));
            }
            reader.NextResult();
            while (reader.Read())
            {
                if (reader.GetString(1).StartsWith('\u0001')) continue; // removed
                spaces.Add(new OwnedSpace((int)reader.GetInt64(0), reader.GetString(1), reader.IsDBNull(2) ? 0 : reader.GetInt64(2),
                    reader.IsDBNull(3) ? null : reader.GetGuid(3), reader.IsDBNull(4) ? null : reader.GetString(4)));
            }
            reader.NextResult();
            reader.Read();
            return new ClusterNow(nodes, spaces, new Epoch(Guid.ParseExact(reader.GetString(0), "N")),
                reader.GetFieldValue<DateTimeOffset>(1));
        }
    }

    /// <summary>Takes spaces that nobody serves, or whose node is not heard of any more. With <c>main</c> goes what belongs to no
    /// space.</summary>
    /// <param name="spaces">The spaces, as they were last seen: whose term is another by now is not taken.</param>
    /// <param name="gone">Processes that have died for sure; their spaces are taken at once.</param>
    /// <returns>Those that were taken, with their terms.</returns>
    /// <exception cref="NpgsqlException">The server can't be reached.</exception>
    public IReadOnlyDictionary<int, long> Take(IReadOnlyList<OwnedSpace> spaces, IReadOnlyCollection<Guid> gone)
    {
        lock (gate)
        {
            var connection = Working();
            // What they have under way holds locks that would be waited for, and is refused by its end at the latest.
            Guid[] lapsed = [.. spaces.Select(s => s.Owner).OfType<Guid>().Distinct()];
            if (lapsed.Length > 0) Terminate(connection, lapsed, gone);
            using var batch = new NpgsqlBatch(connection)
            {
                BatchCommands =
                {
                    new NpgsqlBatchCommand("INSERT INTO space_owner AS o (space, term, incarnation) SELECT s, 1, $3 " +
                        "FROM unnest($1, $2) AS k(s, seen) WHERE EXISTS (SELECT 1 FROM space WHERE id=s) ON CONFLICT (space) DO UPDATE " +
                        "SET term=o.term+1, incarnation=$3 WHERE (o.incarnation IS NULL OR o.incarnation=ANY($4) OR NOT EXISTS " +
                        "(SELECT 1 FROM node n WHERE n.incarnation=o.incarnation AND n.beat>clock_timestamp()-interval '3 s' AND " +
                        "n.beat<clock_timestamp()+interval '1 s')) AND EXISTS (SELECT 1 FROM unnest($1, $2) AS k(s, seen) " +
                        "WHERE s=o.space AND seen=o.term) RETURNING o.space, o.term")
                    {
                        Parameters =
                        {
                            new() { Value = spaces.Select(s => (long)s.Space).ToArray() },
                            new() { Value = spaces.Select(s => s.Term).ToArray() },
                            new() { Value = incarnation },
                            new() { Value = gone.ToArray() },
                        },
                    },
                    new NpgsqlBatchCommand("INSERT INTO space_owner AS o (space, term, incarnation) SELECT 0, 1, $1 WHERE EXISTS " +
                        "(SELECT 1 FROM space_owner m JOIN space s ON s.id=m.space WHERE s.name='main' AND m.incarnation=$1) " +
                        "ON CONFLICT (space) DO UPDATE SET term=o.term+1, incarnation=$1 WHERE o.incarnation IS DISTINCT FROM $1")
                    { Parameters = { new() { Value = incarnation } } },
                    new NpgsqlBatchCommand($"SELECT pg_notify('{News}', '')"),
                },
            };
            var taken = new Dictionary<int, long>();
            using var reader = batch.ExecuteReader();
            while (reader.Read()) taken[(int)reader.GetInt64(0)] = reader.GetInt64(1);
            return taken;
        }
    }

    static void Terminate(NpgsqlConnection connection, Guid[] lapsed, IReadOnlyCollection<Guid> gone)
    {
        // All are told to end before the first is waited for.
        foreach (var how in (string[])["pid", "pid, 1000"])
        {
            using var end = new NpgsqlCommand($"SELECT pg_terminate_backend({how}) FROM pg_stat_activity a WHERE a.application_name IN " +
                "(SELECT $1||replace(i::text, '-', '') FROM unnest($2) AS i WHERE i=ANY($3) OR NOT EXISTS (SELECT 1 FROM node n WHERE " +
                "n.incarnation=i AND n.beat>clock_timestamp()-interval '3 s' AND n.beat<clock_timestamp()+interval '1 s'))", connection)
            {
                Parameters = { new() { Value = NamePrefix }, new() { Value = lapsed }, new() { Value = gone.ToArray() } },
            };
            end.ExecuteNonQuery();
        }
    }

    /// <summary>Gives spaces up, for another to take them.</summary>
    /// <exception cref="NpgsqlException">The server can't be reached.</exception>
    public void Give(IReadOnlyCollection<int> spaces) => Run("WITH given AS (UPDATE space_owner o SET incarnation=NULL WHERE " +
        "o.incarnation=$2 AND (o.space=ANY($1) OR (o.space=0 AND EXISTS (SELECT 1 FROM space WHERE id=ANY($1) AND name='main'))) " +
        $"RETURNING 1) SELECT pg_notify('{News}', '') FROM (SELECT count(*) FROM given) AS g",
        spaces.Select(s => (long)s).ToArray(), incarnation);

    /// <summary>Has operators' wish for a space noted.</summary>
    /// <param name="space">The space.</param>
    /// <param name="wanted">The node that is to serve it; null: any.</param>
    public void Want(int space, string? wanted) => Run("WITH noted AS (INSERT INTO space_owner (space, term, wanted) VALUES ($1, 0, $2) " +
        $"ON CONFLICT (space) DO UPDATE SET wanted=$2 RETURNING 1) SELECT pg_notify('{News}', '') FROM noted", (long)space,
        (object?)wanted ?? DBNull.Value);

    /// <summary>Has a node give all its spaces up, or serve spaces again.</summary>
    /// <returns>False: there is no such node.</returns>
    public bool SetLeaving(string node, bool isLeaving) => Run("WITH noted AS (UPDATE node SET leaving=$2 WHERE url=$1 RETURNING 1) " +
        $"SELECT pg_notify('{News}', '') FROM noted", node, isLeaving) > 0;

    /// <summary>Tells the others which nodes this one can't reach.</summary>
    /// <param name="nodes">Their incarnations.</param>
    /// <exception cref="NpgsqlException">The server can't be reached.</exception>
    public void SetUnreached(IReadOnlyCollection<Guid> nodes) => Run("WITH noted AS (UPDATE node SET unreached=$3 WHERE url=$1 AND " +
        $"incarnation=$2 RETURNING 1) SELECT pg_notify('{News}', '') FROM noted", url, incarnation, nodes.ToArray());

    /// <summary>This node is not there any more.</summary>
    public void Leave() => Run($"WITH gone AS (DELETE FROM node WHERE url=$1 AND incarnation=$2 RETURNING 1) " +
        $"SELECT pg_notify('{News}', '') FROM gone", url, incarnation);

    /// <summary>Deletes nodes that were not heard of for a day.</summary>
    public void ForgetOld() => Run("DELETE FROM node WHERE beat<clock_timestamp()-interval '1 day'");

    /// <returns>Rows of the answer.</returns>
    int Run(string sql, params object[] values)
    {
        lock (gate)
        {
            using var command = new NpgsqlCommand(sql, Working());
            foreach (var value in values) command.Parameters.Add(new NpgsqlParameter { Value = value });
            int rows = 0;
            using var reader = command.ExecuteReader();
            while (reader.Read()) rows++;
            return rows;
        }
    }

    NpgsqlConnection Working()
    {
        if (working?.State == ConnectionState.Open) return working;
        PostgresSql.Close(working);
        working = null;
        // A service that has the database alone, or an older build, does not let it in.
        return working = Open($"SET lock_timeout='3s'; SELECT pg_advisory_lock_shared({PostgresHold.HoldLock})");
    }

    NpgsqlConnection Open(string begin)
    {
        var made = new NpgsqlConnection(settings);
        try
        {
            made.Open();
            PostgresSql.Execute(made, begin);
            return made;
        }
        catch (PostgresException error) when (error.SqlState == PostgresErrorCodes.LockNotAvailable)
        {
            made.Dispose();
            throw PostgresHold.Taken(error);
        }
        catch
        {
            made.Dispose();
            throw;
        }
    }

    const string NamePrefix = "rovett ";

    /// <summary>What the connections of a process are called, by which others know that it has none.</summary>
    internal static string NameOf(Guid incarnation) => $"{NamePrefix}{incarnation:N}";

    /// <inheritdoc/>
    public void Dispose()
    {
        lock (gate) PostgresSql.Close(working);
    }
}
