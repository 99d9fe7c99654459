using System.Text.RegularExpressions;

namespace Rovett.Service.Intakes.Outbox;

/// <summary>The SQL of the outbox: what its owner runs once, and what the intake runs.</summary>
public static partial class OutboxSql
{
    /// <summary>Whether a text is the name of a table, as it can be written without quotes.</summary>
    public static bool IsName(string table) => Names().IsMatch(table);

    [GeneratedRegex(@"^[a-z_][a-z0-9_]{0,62}(\.[a-z_][a-z0-9_]{0,62})?$")]
    private static partial Regex Names();

    /// <summary>The channel that tells of new rows.</summary>
    public static string Channel(string table) => table.Replace('.', '_');

    /// <summary>What makes the table, in a migration of the backend's database.</summary>
    /// <param name="table">The table.</param>
    /// <param name="reader">The user that the intake connects as; null: the owner.</param>
    public static string Create(string table, string? reader) => $$"""
        -- Events for Rovett, written in the same transaction as the change that they tell of.
        CREATE TABLE {{table}} (
            id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
            key uuid NOT NULL DEFAULT gen_random_uuid(), -- the id of an event that has none
            event json NOT NULL,                         -- CloudEvents 1.0, JSON format; specversion and id may be left out
            added timestamptz NOT NULL DEFAULT clock_timestamp(),
            taken timestamptz                            -- set only where rows are kept
        );
        CREATE INDEX ON {{table}} (id) WHERE taken IS NULL;

        CREATE FUNCTION {{table}}_tell() RETURNS trigger LANGUAGE plpgsql AS $$
        BEGIN
            PERFORM pg_notify('{{Channel(table)}}', '');
            RETURN NULL;
        END
        $$;
        CREATE TRIGGER tell AFTER INSERT ON {{table}} FOR EACH STATEMENT EXECUTE FUNCTION {{table}}_tell();

        """ + (reader is null ? "" : $"GRANT SELECT, DELETE, UPDATE (taken) ON {table} TO {reader};\n");
}
