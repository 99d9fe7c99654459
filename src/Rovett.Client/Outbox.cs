using System.Data;
using System.Data.Common;

namespace Rovett.Client;

/// <summary>Writes events into a table of the backend's own PostgreSQL, in the transaction of the change that they tell of. An intake of
/// the service takes them from there (docs/intakes.md); <c>rovett intake outbox-sql</c> prints what makes the table.</summary>
/// <param name="table">The table's name, with its schema where that is not on the search path.</param>
/// <example><code>
/// await using var transaction = await connection.BeginTransactionAsync();
/// // … the change itself …
/// await outbox.Add(connection, transaction, new BackendEvent("/planning/1", "engine.check.due", "vessel/turnstone", data));
/// await transaction.CommitAsync();
/// </code></example>
public sealed class Outbox(string table = "rovett_outbox")
{
    readonly string insert = $"INSERT INTO {Checked(table)} (event) VALUES (CAST(@event AS json))";

    static string Checked(string table) =>
        table.Length > 0 && table.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c is '_' or '.') ? table
            : throw new ArgumentException($"'{table}' would need quotes; use only a-z, 0-9, _ and one dot", nameof(table));

    /// <summary>Adds an event. It is told once the transaction commits, and never if that is rolled back.</summary>
    /// <param name="connection">An open connection to the database.</param>
    /// <param name="transaction">The transaction of the change; null: the event is committed by itself.</param>
    /// <param name="found">The event.</param>
    /// <param name="cancel">Cancels the command.</param>
    /// <exception cref="DbException">The database refused it; the transaction can't be committed then.</exception>
    public async Task Add(DbConnection connection, DbTransaction? transaction, BackendEvent found, CancellationToken cancel = default)
    {
        await using var command = connection.CreateCommand();
        command.Transaction = transaction;
        command.CommandText = insert;
        var parameter = command.CreateParameter();
        parameter.ParameterName = "event";
        parameter.DbType = DbType.String;
        parameter.Value = found.ToJson().ToJsonString();
        command.Parameters.Add(parameter);
        await command.ExecuteNonQueryAsync(cancel).ConfigureAwait(false);
    }
}
