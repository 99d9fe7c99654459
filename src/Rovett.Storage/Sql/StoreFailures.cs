using System.Data.Common;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace Rovett.Storage.Sql;

/// <summary>Tells failures of a store (full, read-only, locked, broken, unreachable) from bugs in what it was asked.</summary>
public static class StoreFailures
{
    /// <summary>Whether something thrown means that the store can't be read or written now.</summary>
    public static bool Is(Exception error) => error switch
    {
        // A statement that breaks a constraint, has the wrong type or is not valid SQL would fail again.
        SqliteException sqlite =>
            sqlite.SqliteErrorCode is not (raw.SQLITE_ERROR or raw.SQLITE_CONSTRAINT or raw.SQLITE_MISMATCH or raw.SQLITE_MISUSE
            or raw.SQLITE_RANGE or raw.SQLITE_TOOBIG),
        // The same for PostgreSQL: data exceptions (22), integrity constraints (23), syntax and access rules (42).
        DbException other => other.SqlState is not ['2', '2' or '3', ..] and not ['4', '2', ..],
        IOException or StoreException => true,
        // Its connection is not open, or was ended while it was used.
        InvalidOperationException { Source: "Npgsql" } or NullReferenceException { Source: "Npgsql" } => true,
        _ => false,
    };
}
