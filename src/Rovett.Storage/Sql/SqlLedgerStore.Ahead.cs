using System.Data.Common;
using Rovett.Core.Marks;
using Rovett.Core.Store;

namespace Rovett.Storage.Sql;

/// <summary>Reading ahead: what a batch will look up is asked for at once. Each answer is used once, and dropped when what it says is
/// written to.</summary>
public sealed partial class SqlLedgerStore
{
    // A few sizes, so that there are a few statements.
    static readonly int[] Sizes = [1, 4, 16, 64, 256];

    /// <summary>What was read ahead for the batch under way.</summary>
    sealed class Ahead
    {
        public readonly Dictionary<(int Space, string User), PersonRow?> People = [];
        public readonly Dictionary<long, List<Membership>> Memberships = [];
        public readonly Dictionary<long, List<MuteRow>> Mutes = [];
        public readonly Dictionary<long, List<KeyValuePair<string, long>>> Follows = [];
        public readonly Dictionary<long, List<UserLogRow>> UserLogs = [];
        public readonly Dictionary<long, List<TakeRow>> Takes = [];
        public readonly Dictionary<(int Space, string Key), LogRow?> Logs = [];
        public readonly Dictionary<(int Space, string Key), (IdempotencyRow Row, StoredTime Time)?> Answers = [];
        public readonly Dictionary<(int Space, string Source, string Id), EventRow?> Events = [];
        readonly Dictionary<(long Person, long Log), List<(MarkKind Kind, int Block, int Count, byte[]? Bits)>> blocks = [];
        readonly HashSet<long> people = [], logs = []; // whose blocks are known

        /// <summary>An answer is used once; that there is none holds until it is written.</summary>
        public static bool Use<TKey, T>(Dictionary<TKey, T?>? of, TKey key, out T? answer) where TKey : notnull
        {
            answer = default;
            if (of is null || !of.TryGetValue(key, out answer)) return false;
            if (answer is not null) of.Remove(key);
            return true;
        }

        public void Knows(long person) => people.Add(person);

        public void KnowsDead(long log) => logs.Add(log);

        public void Add(long person, long log, MarkKind kind, int block, int count, byte[]? bits)
        {
            if (!blocks.TryGetValue((person, log), out var list)) blocks[(person, log)] = list = [];
            list.Add((kind, block, count, bits));
        }

        public IReadOnlyList<(int Block, int Count, byte[]? Bits)>? BlocksOf(long person, long log, MarkKind kind)
        {
            if (!(person == 0 ? logs.Contains(log) : people.Contains(person))) return null;
            return blocks.TryGetValue((person, log), out var list)
                ? [.. list.Where(b => b.Kind == kind).Select(b => (b.Block, b.Count, b.Bits))] : [];
        }

        public void ForgetBlocks(long person, long log)
        {
            if (person == 0) logs.Remove(log);
            else people.Remove(person);
        }

        public void ForgetLog(long log)
        {
            foreach (var (key, row) in Logs)
            {
                if (row?.Id == log) Logs.Remove(key);
            }
        }
    }

    Ahead? ahead;

    /// <inheritdoc/>
    public bool ReadsAhead { get; }

    /// <inheritdoc/>
    public void ReadAhead(int space, AheadList what)
    {
        ahead ??= new Ahead();
        foreach (var users in what.Users.Chunk(Sizes[^1])) People(space, users, [.. users.Where(what.WithLogs.Contains)]);
        foreach (var keys in what.Answers.Chunk(Sizes[^1]))
        {
            foreach (var key in keys) ahead.Answers[(space, key)] = null;
            sql.Ask([new Question($"{These(keys)} SELECT body_hash, id, position, key, time FROM these CROSS JOIN answer WHERE space=?1 " +
                "AND key=value",
                Values(space, keys), r => ahead.Answers[(space, r.GetString(3))] = (ReadAnswer(r), new StoredTime(r.GetInt64(4))))]);
        }
        foreach (var events in what.Events.Chunk(Sizes[^1]))
        {
            foreach (var (source, id) in events) ahead.Events[(space, source, id)] = null;
            // By id first: few sources have the same ones.
            var ids = events.Select(e => e.Id).Distinct().ToArray();
            sql.Ask([new Question("SELECT source, id, hash, time, type, subject, trace, outcome, content FROM event WHERE space=?1 AND " +
                $"source IN ({Marks([.. events.Select(e => e.Source).Distinct()], ids.Length)}) AND id IN ({Marks(ids)})",
                [.. Values(space, ids), .. Padded([.. events.Select(e => e.Source).Distinct()])], ReadEvent)]);

            void ReadEvent(DbDataReader r)
            {
                var key = (space, r.GetString(0), r.GetString(1));
                if (!ahead.Events.ContainsKey(key)) return;
                ahead.Events[key] = new EventRow(key.Item2, key.Item3, Rows.Bytes(r, 2), new StoredTime(r.GetInt64(3)), r.GetString(4),
                    Rows.Text(r, 5), Rows.Text(r, 6), Rows.Bytes(r, 7))
                { Content = r.IsDBNull(8) ? null : Rows.Bytes(r, 8) };
            }
        }
    }

    void People(int space, string[] users, string[] withLogs)
    {
        var questions = new List<Question>();
        var found = new List<long>();
        foreach (var user in users)
        {
            ahead!.People[(space, user)] = null;
            ahead.Logs[(space, "user:" + user)] = null;
        }
        object?[] named = Values(space, users), logged = Values(space, withLogs),
            keys = Values(space, [.. users.Select(u => "user:" + u)]);
        string these = Numbers("person", "name", users), personal = Numbers("log", "key", users);
        questions.Add(new Question($"{Rows.SelectPerson} WHERE id IN {these}", named, r =>
        {
            var row = Rows.Person(r);
            ahead!.People[(space, row.User)] = row;
            (ahead.Memberships[row.Id], ahead.Mutes[row.Id], ahead.Follows[row.Id]) = ([], [], []);
            if (!withLogs.Contains(row.User)) return;
            (ahead.UserLogs[row.Id], ahead.Takes[row.Id]) = ([], []);
            ahead.Knows(row.Id);
        }));
        questions.Add(new Question($"SELECT address, after, until, gained, person FROM membership WHERE person IN {these} ORDER BY opened",
            named, r => ahead!.Memberships[r.GetInt64(4)].Add(ReadMembership(r))));
        questions.Add(new Question($"SELECT is_type, text, after, until, since, person FROM mute WHERE person IN {these} ORDER BY since",
            named, r => ahead!.Mutes[r.GetInt64(5)].Add(ReadMute(r))));
        questions.Add(new Question($"SELECT topic, since, person FROM follow WHERE person IN {these} ORDER BY topic",
            named, r => ahead!.Follows[r.GetInt64(2)].Add(KeyValuePair.Create(r.GetString(0), r.GetInt64(1)))));
        questions.Add(new Question($"{Rows.SelectLog} WHERE l.id IN {personal}", keys, r =>
        {
            var log = Rows.Log(r);
            ahead!.Logs[(space, log.Key)] = log;
            ahead.KnowsDead(log.Id);
        }));
        questions.Add(new Question("SELECT person, log, kind, block, count, bits FROM mark_block WHERE person=0 AND log IN " +
            $"{personal} ORDER BY log, kind, block", keys, ReadBlock));
        if (withLogs.Length > 0)
        {
            these = Numbers("person", "name", withLogs);
            questions.Add(new Question($"{Rows.SelectUserLogsOf} WHERE person IN {these}", logged,
                r => ahead!.UserLogs[r.GetInt64(10)].Add(Rows.UserLog(r))));
            questions.Add(new Question($"{SelectTake} WHERE person IN {these} ORDER BY position", logged,
                r => ahead!.Takes[r.GetInt64(1)].Add(Take(r))));
            // Of each set the bits of the newest block, where most is asked.
            questions.Add(new Question("SELECT b.person, b.log, b.kind, b.block, b.count, CASE WHEN b.block=(SELECT max(block) FROM " +
                "mark_block n WHERE n.person=b.person AND n.log=b.log AND n.kind=b.kind) THEN b.bits END FROM mark_block b WHERE " +
                $"b.person IN {these} ORDER BY b.log, b.kind, b.block", logged, ReadBlock));
        }
        sql.Ask(questions);
    }

    void ReadBlock(DbDataReader r) => ahead!.Add(r.GetInt64(0), r.GetInt64(1), (MarkKind)r.GetInt64(2), (int)r.GetInt64(3),
        (int)r.GetInt64(4), r.IsDBNull(5) ? null : Rows.Bytes(r, 5));

    /// <summary>A subquery for the ids of the rows of a space with these values. Each value is looked up by itself: with <c>IN</c>, a
    /// server without statistics scans all rows of the space.</summary>
    static string Numbers(string table, string column, string[] values) =>
        $"({These(values)} SELECT (SELECT id FROM {table} WHERE space=?1 AND {column}=value) FROM these)";

    static string These(string[] values) =>
        $"WITH these(value) AS (VALUES {string.Join(", ", Enumerable.Range(2, SizeFor(values.Length)).Select(n => $"(?{n})"))})";

    static int SizeFor(int count) => Sizes.First(s => s >= count);

    /// <summary><c>?2, ?3 …</c> for as many values as there are, and some more.</summary>
    static string Marks(string[] values, int before = -1)
    {
        int first = before < 0 ? 2 : 2 + SizeFor(before);
        return string.Join(", ", Enumerable.Range(first, SizeFor(values.Length)).Select(n => $"?{n}"));
    }

    static object?[] Values(int space, string[] values) => values.Length == 0 ? [] : [(long)space, .. Padded(values)];

    static IEnumerable<object?> Padded(string[] values) =>
        values.Concat(Enumerable.Repeat(values[^1], SizeFor(values.Length) - values.Length));
}
