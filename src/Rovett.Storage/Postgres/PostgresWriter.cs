using System.Globalization;
using Npgsql;
using Rovett.Core.Store;

namespace Rovett.Storage.Postgres;

/// <summary>A connection that writes for some spaces. It owns each under a term, by which every batch ends: what another has taken
/// meanwhile is not written to. A lost connection means that all its spaces are taken anew, under the next term, before anything is
/// read: a commit whose answer did not come is then there, or can never be.</summary>
public sealed class PostgresWriter : PostgresSql
{
    /// <summary>The space that stands for what belongs to none.</summary>
    const int NoSpace = 0;

    /// <summary>So many batches of a space are remembered.</summary>
    const int Remembered = 1000, LetGoEvery = 250;

    sealed class Term(long number, long batch, long lasting, long letGo)
    {
        public readonly long Number = number;

        /// <summary>The newest batch that is stored, and the newest that the disk has for sure.</summary>
        public long Batch = batch, Lasting = lasting;

        /// <summary>None was written under this term yet.</summary>
        public bool IsFresh = true;

        /// <summary>Batches up to this one are let go.</summary>
        public long LetGo = letGo;
    }

    readonly PostgresHold hold;
    readonly bool disposesHold;
    readonly PostgresStatistics? statistics;
    readonly Dictionary<int, Term> terms = [];
    readonly List<int> taken = []; // in the transaction under way
    readonly List<int> changed = [];
    bool lasts = true;

    /// <summary>Connects.</summary>
    /// <exception cref="StoreException">An older build writes to the database.</exception>
    /// <exception cref="NpgsqlException">The server can't be reached.</exception>
    public PostgresWriter(string connectionString, PostgresHold hold, bool disposesHold = false, PostgresStatistics? statistics = null)
        : base(connectionString)
    {
        (this.hold, this.disposesHold, this.statistics) = (hold, disposesHold, statistics);
        Connect();
    }

    /// <inheritdoc/>
    protected override void Connected(NpgsqlConnection made)
    {
        try
        {
            // Writers look up a few rows at a time, always by an index. Without statistics the server would scan whole tables, and
            // planning for each set of values takes longer than the lookup.
            Execute(made, "SET enable_seqscan=off; SET enable_hashjoin=off; SET enable_mergejoin=off; SET jit=off; " +
                "SET plan_cache_mode=force_generic_plan; " +
                "SET synchronous_commit=on; SET idle_in_transaction_session_timeout='10s'; SET lock_timeout='3s'; " +
                $"SELECT pg_advisory_lock_shared({PostgresHold.WriterLock})");
        }
        catch (PostgresException error) when (error.SqlState == PostgresErrorCodes.LockNotAvailable)
        {
            throw PostgresHold.Taken(error);
        }
        if (terms.Count > 0) TakeAnew(made);
    }

    /// <summary>Takes all that was owned under the next term. Whatever an earlier connection had under way is over then.</summary>
    void TakeAnew(NpgsqlConnection made)
    {
        hold.Confirm();
        var fresh = new Dictionary<int, long>();
        using (var take = new NpgsqlCommand("UPDATE space_owner o SET term=o.term+1 FROM unnest($1, $2) AS k(space, term) " +
            "WHERE o.space=k.space AND o.term=k.term AND o.incarnation=$3 RETURNING o.space, o.term", made))
        {
            take.Parameters.Add(new NpgsqlParameter { Value = terms.Keys.Select(k => (long)k).ToArray() });
            take.Parameters.Add(new NpgsqlParameter { Value = terms.Values.Select(t => t.Number).ToArray() });
            take.Parameters.Add(new NpgsqlParameter { Value = hold.Incarnation });
            using var reader = take.ExecuteReader();
            while (reader.Read()) fresh[(int)reader.GetInt64(0)] = reader.GetInt64(1);
        }
        // A statement of its own: it sees what the first one had to wait for.
        var newest = new Dictionary<int, long>();
        bool hasLost = false;
        using (var look = new NpgsqlCommand("SELECT s, (SELECT max(batch) FROM batch_done WHERE space=s) FROM unnest($1) AS s", made))
        {
            look.Parameters.Add(new NpgsqlParameter { Value = terms.Keys.Select(k => (long)k).ToArray() });
            using var reader = look.ExecuteReader();
            while (reader.Read()) newest[(int)reader.GetInt64(0)] = reader.IsDBNull(1) ? 0 : reader.GetInt64(1);
        }
        foreach (var (space, term) in terms.ToList())
        {
            bool isOwned = fresh.TryGetValue(space, out long number);
            hasLost |= newest[space] < term.Lasting;
            // Whoever has read it has read something else than what is stored now.
            if (!isOwned || newest[space] < term.Batch) changed.Add(space);
            if (isOwned) terms[space] = new Term(number, newest[space], term.Lasting, Math.Min(term.LetGo, newest[space]));
            else terms.Remove(space);
        }
        if (hasLost) throw hold.HasLostCommits(made);
    }

    /// <inheritdoc/>
    public override IReadOnlyList<int> Changed()
    {
        if (changed.Count == 0) return [];
        int[] now = [.. changed];
        changed.Clear();
        return now;
    }

    /// <inheritdoc/>
    public override DeposedException? Deposed(IReadOnlyList<int> spaces)
    {
        if (!IsOpen) return null;
        try
        {
            foreach (int space in spaces)
            {
                if (!terms.TryGetValue(space, out var term) || Number("SELECT 1 FROM space_owner WHERE space=?1 AND term=?2 AND " +
                    "incarnation=?3", (long)space, term.Number, hold.Incarnation) is not null)
                {
                    continue;
                }
                terms.Remove(space);
                return new DeposedException(space);
            }
        }
        catch (NpgsqlException)
        {
            // What was thrown first is told.
        }
        return null;
    }

    /// <inheritdoc/>
    public override void Begin(bool lasting = true)
    {
        base.Begin(lasting);
        lasts = lasting;
        taken.Clear();
    }

    /// <inheritdoc/>
    public override void Own(int space)
    {
        if (terms.ContainsKey(space)) return;
        hold.Confirm();
        if (hold.IsNode)
        {
            // A node's spaces are taken beside its writers.
            long mine = Number("SELECT term FROM space_owner WHERE space=?1 AND incarnation=?2", (long)space, hold.Incarnation)
                ?? throw new DeposedException(space, isLost: true);
            long last = Number("SELECT max(batch) FROM batch_done WHERE space=?1", (long)space) ?? 0;
            terms[space] = new Term(mine, last, last, Math.Max(0, last - (2 * (Remembered + LetGoEvery))));
            return;
        }
        // Locks the row: whoever owned it cannot write from here on, and what it wrote before is read after this.
        long term = Number("INSERT INTO space_owner (space, term, incarnation) VALUES (?1, 1, ?2) ON CONFLICT (space) DO UPDATE SET " +
            "term=space_owner.term+1, incarnation=?2 RETURNING term", (long)space, hold.Incarnation)!.Value;
        long newest = Number("SELECT max(batch) FROM batch_done WHERE space=?1", (long)space) ?? 0;
        terms[space] = new Term(term, newest, newest, Math.Max(0, newest - (2 * (Remembered + LetGoEvery))));
        taken.Add(space);
    }

    /// <inheritdoc/>
    public override void Commit(IReadOnlyList<int>? spaces = null)
    {
        IReadOnlyList<int> of = spaces is { Count: > 0 } ? spaces : [NoSpace];
        if (of.Count > 1) of = [.. of.Order()];
        bool wrote = Written > 0;
        foreach (int space in of)
        {
            if (!wrote)
            {
                if (terms.TryGetValue(space, out var held))
                {
                    Defer("SELECT rovett_holds(?1, ?2, ?3)", [(long)space, held.Number, hold.Incarnation]);
                }
                continue;
            }
            Own(space);
            var term = terms[space];
            if (term.Batch - term.LetGo > Remembered + LetGoEvery)
            {
                // From where the last time ended: an old snapshot keeps the index entries of those that are gone.
                Defer("DELETE FROM batch_done WHERE space=?1 AND batch>?2 AND batch<=?3",
                    [(long)space, term.LetGo, term.Batch - Remembered]);
            }
            Defer("SELECT rovett_fence(?1, ?2, ?3, ?4, ?5)",
                [(long)space, term.Number, hold.Incarnation, term.Batch + 1, term.IsFresh]);
        }
        try
        {
            base.Commit();
        }
        catch (PostgresException refused) when (refused.SqlState is "RV001" or "RV002")
        {
            int space = int.Parse(refused.MessageText.Split(' ')[1], CultureInfo.InvariantCulture);
            terms.Remove(space);
            throw new DeposedException(space, error: refused);
        }
        catch (NpgsqlException error) when (wrote && !(error is PostgresException && IsOpen))
        {
            Settle(of, error); // broken before the server's answer: what is stored says whether the commit is there
            return;
        }
        if (wrote)
        {
            Count(of);
            statistics?.Committed(Written);
        }
        taken.Clear();
    }

    void Count(IReadOnlyList<int> of)
    {
        foreach (int space in of)
        {
            var term = terms[space];
            term.Batch++;
            term.IsFresh = false;
            if (lasts) term.Lasting = term.Batch;
            if (term.Batch - 1 - term.LetGo > Remembered + LetGoEvery) term.LetGo = term.Batch - 1 - Remembered;
        }
    }

    void Settle(IReadOnlyList<int> of, Exception error)
    {
        int one = of[0];
        var (number, under) = (terms[one].Batch + 1, terms[one].Number); // another may have a batch of that number by now
        // A term that only this transaction would have made is drawn again.
        foreach (int space in taken)
        {
            terms.Remove(space);
            changed.Add(space);
        }
        taken.Clear();
        bool isThere;
        try
        {
            Connect();
            isThere = Number("SELECT batch FROM batch_done WHERE space=?1 AND batch=?2 AND term=?3", (long)one, number, under) is not null;
        }
        catch (Exception again) when (again is NpgsqlException or StoreException)
        {
            throw new InDoubtException(again);
        }
        if (!isThere) throw error;
        if (!lasts) return;
        foreach (int space in of)
        {
            if (terms.TryGetValue(space, out var term)) term.Lasting = term.Batch;
        }
    }

    /// <inheritdoc/>
    public override void Rollback()
    {
        foreach (int space in taken) terms.Remove(space);
        taken.Clear();
        base.Rollback();
    }

    /// <inheritdoc/>
    public override void Dispose()
    {
        base.Dispose();
        if (disposesHold) hold.Dispose();
        GC.SuppressFinalize(this);
    }

    /// <inheritdoc/>
    public override (long From, long To) Numbers(string table)
    {
        long from = Number($"SELECT nextval('{table}_block')")!.Value;
        return (from, from + 999);
    }
}
