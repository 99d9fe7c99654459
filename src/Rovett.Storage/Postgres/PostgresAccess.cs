using System.Data;
using System.Diagnostics;
using Dapper;
using Npgsql;
using Rovett.Storage.Access;

namespace Rovett.Storage.Postgres;

/// <summary>Credentials in a database. A connection that was lost is opened again with the next call.</summary>
/// <param name="connectionString">As Npgsql reads it.</param>
/// <param name="lasting">Whether what is written is on disk when a call returns.</param>
sealed class PostgresAccess(string connectionString, bool lasting = true) : IAccessSql
{
    static readonly TimeSpan Idle = TimeSpan.FromSeconds(2);

    readonly Lock gate = new();
    NpgsqlConnection? connection;
    NpgsqlTransaction? transaction;
    long used;

    public int Run(string sql, object parameters) => Use(db => db.Execute(sql, parameters, transaction), isRead: false);

    public T? One<T>(string sql, object parameters) where T : class =>
        Use(db => db.QueryFirstOrDefault<T>(sql, parameters, transaction), isRead: true);

    public List<T> All<T>(string sql, object parameters) => Use(db => db.Query<T>(sql, parameters, transaction).AsList(), isRead: true);

    public void Together(Action work)
    {
        lock (gate)
        {
            using var begun = Connected(isRead: false).BeginTransaction();
            transaction = begun;
            try
            {
                work();
                begun.Commit();
            }
            finally
            {
                transaction = null; // what was not committed is rolled back when it is disposed
            }
        }
    }

    public void Tell(string space, string kind) => Run("SELECT rovett_changed(@space, @kind)", new { space, kind });

    public void ScrubFreed()
    {
        // The server's own vacuum does that in its time.
    }

    T Use<T>(Func<NpgsqlConnection, T> work, bool isRead)
    {
        lock (gate)
        {
            try
            {
                return work(Connected(isRead));
            }
            catch (NpgsqlException error) when (isRead && transaction is null && error is not PostgresException)
            {
                connection?.Dispose();
                return work(Connected(isRead)); // reading again does no harm
            }
            finally
            {
                used = Stopwatch.GetTimestamp();
            }
        }
    }

    NpgsqlConnection Connected(bool isRead)
    {
        if (transaction is not null) return connection!;
        // A write can't be repeated without harm: a connection that was idle is tried first.
        if (!isRead && connection?.State == ConnectionState.Open && Stopwatch.GetElapsedTime(used) > Idle) Try(connection);
        if (connection?.State == ConnectionState.Open) return connection;
        connection?.Dispose();
        connection = new NpgsqlConnection(connectionString);
        connection.Open();
        if (!lasting) connection.Execute("SET synchronous_commit=off");
        return connection;
    }

    static void Try(NpgsqlConnection open)
    {
        try
        {
            open.Execute("SELECT 1");
        }
        catch (NpgsqlException)
        {
            open.Dispose();
        }
    }

    public void Dispose()
    {
        lock (gate) connection?.Dispose();
    }
}
