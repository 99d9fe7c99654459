using System.Data.Common;
using Microsoft.Data.Sqlite;
using Rovett.Core.Store;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;
using Xunit;

namespace Rovett.Core.Tests;

/// <summary>The store's contract once more, with a look at how SQLite carries each statement out: none may go through a table
/// that grows.</summary>
public sealed class StatementPlanTests : StoreContractTests
{
    // A row for each space, for each erasure that is under way, for each value that the statement gives, or only one.
    static readonly HashSet<string> Small = ["space", "erasure", "these", "store", "clock"];

    // When a step of the system's clock is believed, which an operator does by hand.
    static bool IsOfClockStep(string sql) => sql.StartsWith("UPDATE ", StringComparison.Ordinal)
        && (sql.Contains(" SET valid_from=", StringComparison.Ordinal) || sql.Contains(" SET roles_issued_at=", StringComparison.Ordinal));

    readonly string folder = Directory.CreateTempSubdirectory("rovett-plans-").FullName;

    protected override ILedgerStore Open()
    {
        var path = Path.Combine(folder, "history.db");
        SqliteFiles.OpenHistory(path).Dispose();
        var connection = new SqliteConnection($"Data Source={path};Pooling=False");
        connection.Open();
        return new SqlLedgerStore(new Explaining(new SqliteSql(connection), connection));
    }

    public override void Dispose()
    {
        base.Dispose();
        Directory.Delete(folder, recursive: true);
    }

    sealed class Explaining(ISql inner, SqliteConnection connection) : ISql
    {
        readonly HashSet<string> known = [];

        void Look(string sql)
        {
            if (!known.Add(sql) || sql.Split(' ', 2)[0] is not ("SELECT" or "DELETE" or "UPDATE")) return;
            using var command = connection.CreateCommand();
            command.CommandText = "EXPLAIN QUERY PLAN " + sql;
            for (int i = 1; sql.Contains($"?{i}", StringComparison.Ordinal); i++) command.Parameters.AddWithValue($"?{i}", 1L);
            using var reader = command.ExecuteReader();
            while (reader.Read())
            {
                var words = reader.GetString(3).Split(' ');
                if (words is ["SCAN", var table, ..] && !Small.Contains(table) && table != "CONSTANT" && !IsOfClockStep(sql))
                {
                    Assert.Fail($"goes through all of {table}: {sql}");
                }
            }
        }

        public void Run(string sql, params ReadOnlySpan<object?> values)
        {
            Look(sql);
            inner.Run(sql, values);
        }

        public long? Number(string sql, params ReadOnlySpan<object?> values)
        {
            Look(sql);
            return inner.Number(sql, values);
        }

        public T? One<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values) where T : class
        {
            Look(sql);
            return inner.One(sql, read, values);
        }

        public List<T> All<T>(string sql, Func<DbDataReader, T> read, params ReadOnlySpan<object?> values)
        {
            Look(sql);
            return inner.All(sql, read, values);
        }

        public void Ask(IReadOnlyList<Question> questions)
        {
            foreach (var question in questions) Look(question.Sql);
            inner.Ask(questions);
        }

        public void Begin(bool lasting = true) => inner.Begin(lasting);
        public void BeginReading() => inner.BeginReading();
        public void Commit(IReadOnlyList<int>? spaces = null) => inner.Commit(spaces);
        public void Sync(IReadOnlyList<int>? spaces = null) => inner.Sync(spaces);
        public void Own(int space) => inner.Own(space);
        public IReadOnlyList<int> Changed() => inner.Changed();
        public DeposedException? Deposed(IReadOnlyList<int> spaces) => inner.Deposed(spaces);
        public (long From, long To) Numbers(string table) => inner.Numbers(table);
        public void Rollback() => inner.Rollback();
        public void ScrubFreed() => inner.ScrubFreed();
        public void Run(RowStatement statement, params ReadOnlySpan<object?> values) => inner.Run(statement, values);
        public bool IsRemote => inner.IsRemote;

        public void Dispose()
        {
            inner.Dispose();
            connection.Dispose();
        }
    }
}
