namespace Rovett.Storage.Sql;

/// <summary>What becomes of a row whose key is there already.</summary>
public enum RowMode
{
    /// <summary>There can be none.</summary>
    Append,
    /// <summary>It is replaced.</summary>
    Replace,
    /// <summary>Its last column is added to.</summary>
    Add,
    /// <summary>It is changed; a row that is not there is left out.</summary>
    Update,
}

/// <summary>A statement that writes one row of a table. Where each statement costs much, many rows go in one.</summary>
public sealed class RowStatement
{
    /// <param name="mode">What becomes of a row that is there.</param>
    /// <param name="table">The table.</param>
    /// <param name="columns">Its columns, those of the key first.</param>
    /// <param name="types">A letter for each: n a number, t a text, b bytes.</param>
    /// <param name="keys">How many columns are the key; they are numbers.</param>
    public RowStatement(RowMode mode, string table, string[] columns, string types, int keys)
    {
        (Mode, Types, Keys) = (mode, types, keys);
        string all = string.Join(", ", columns), key = string.Join(", ", columns[..keys]);
        var numbered = string.Join(", ", Enumerable.Range(1, columns.Length).Select(n => $"?{n}"));
        var arrays = string.Join(", ", types.Select((t, n) => $"?{n + 1}::{(t == 'n' ? "bigint" : t == 't' ? "text" : "bytea")}[]"));
        var rest = columns[keys..];
        var conflict = mode switch
        {
            RowMode.Replace => $" ON CONFLICT ({key}) DO UPDATE SET {string.Join(", ", rest.Select(c => $"{c}=excluded.{c}"))}",
            RowMode.Add => $" ON CONFLICT ({key}) DO UPDATE SET {rest[^1]}={table}.{rest[^1]}+excluded.{rest[^1]}",
            _ => "",
        };
        One = mode == RowMode.Update
            ? $"UPDATE {table} SET {string.Join(", ", rest.Select((c, n) => $"{c}=?{keys + n + 1}"))} WHERE " +
                string.Join(" AND ", columns[..keys].Select((c, n) => $"{c}=?{n + 1}"))
            : $"INSERT INTO {table} ({all}) VALUES ({numbered}){conflict}";
        Many = mode switch
        {
            RowMode.Update => $"UPDATE {table} SET {string.Join(", ", rest.Select(c => $"{c}=v.{c}"))} " +
                $"FROM unnest({arrays}) AS v({all}) WHERE " + string.Join(" AND ", columns[..keys].Select(c => $"{table}.{c}=v.{c}")),
            RowMode.Add => $"INSERT INTO {table} ({all}) SELECT {key}, CAST(sum({rest[^1]}) AS BIGINT) FROM unnest({arrays}) AS v({all}) " +
                $"GROUP BY {key}{conflict}",
            _ => $"INSERT INTO {table} ({all}) SELECT * FROM unnest({arrays}){conflict}",
        };
    }

    /// <summary>What becomes of a row that is there.</summary>
    public RowMode Mode { get; }

    /// <summary>A letter for each column.</summary>
    public string Types { get; }

    /// <summary>How many columns are the key.</summary>
    public int Keys { get; }

    /// <summary>For one row, with a parameter for each column.</summary>
    public string One { get; }

    /// <summary>For many rows, with an array for each column; no two have the same key, but where they are added.</summary>
    public string Many { get; }
}
