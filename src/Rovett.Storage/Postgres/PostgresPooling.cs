using Npgsql;

namespace Rovett.Storage.Postgres;

/// <summary>Finds out what stands between this process and the server: locks and notices belong to a connection, so each of ours must be
/// one connection of the server for as long as it is open.</summary>
static class PostgresPooling
{
    const string Mark = "rovett.connection";
    // A pooler takes the connection that was used last, or the next in turn; with so many in use, one is given to another.
    const int Others = 3;

    /// <summary>Refuses a pooler that gives each transaction another connection.</summary>
    /// <exception cref="StoreException">There is one; the message names the fix.</exception>
    public static void RequireLasting(string settings)
    {
        using var first = Open(settings);
        var mine = Guid.NewGuid().ToString("N");
        PostgresSql.Execute(first, $"SELECT set_config('{Mark}', '{mine}', false)");
        var others = new List<NpgsqlConnection>();
        try
        {
            for (int i = 0; i < Others; i++)
            {
                others.Add(Open(settings));
                PostgresSql.Execute(others[i], "BEGIN");
                if (Marked(others[i]) == mine) throw Refused();
            }
            if (Marked(first) != mine) throw Refused();
        }
        finally
        {
            foreach (var one in others) PostgresSql.Close(one);
        }
    }

    static NpgsqlConnection Open(string settings)
    {
        var made = new NpgsqlConnection(settings);
        made.Open();
        return made;
    }

    static string? Marked(NpgsqlConnection connection)
    {
        using var ask = new NpgsqlCommand($"SELECT current_setting('{Mark}', true)", connection);
        return ask.ExecuteScalar() as string;
    }

    static StoreException Refused() => new("The database is reached through a pooler that gives each transaction another connection. " +
        "Connect to PostgreSQL directly, or have the pooler keep a connection for as long as the service does (session pooling).");
}
