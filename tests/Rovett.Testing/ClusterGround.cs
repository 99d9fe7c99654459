using Npgsql;
using Rovett.Testing.Servers;

namespace Rovett.Testing;

/// <summary>Several nodes on loopback, in this process, with a database that they share.</summary>
public sealed class ClusterGround : IAsyncDisposable
{
    readonly PostgresServer server = new();
    readonly string folder = Directory.CreateTempSubdirectory("rovett-cluster-").FullName;

    public ClusterGround()
    {
        Database = server.NewDatabase();
        SecretFile = Path.Combine(folder, "secret");
        File.WriteAllText(SecretFile, new string('s', 40));
    }

    public string Database { get; }
    /// <summary>Where the database's server listens.</summary>
    public int DatabasePort => server.Port;
    public string SecretFile { get; }
    public List<ServiceUnderTest> Nodes { get; } = [];

    /// <summary>Starts one more node.</summary>
    public async Task<ServiceUnderTest> Add(Action<Rovett.Service.Options.RovettOptions>? configure = null, string scheme = "https")
    {
        var url = $"{scheme}://127.0.0.1:{FreePort.Next()}";
        var node = await ServiceUnderTest.Start(o =>
        {
            (o.Database, o.NodeUrl, o.ClusterSecretFile, o.Spaces) = (Database, url, SecretFile, ["harbour", "fleet"]);
            configure?.Invoke(o);
        });
        Nodes.Add(node);
        return node;
    }

    /// <summary>The number or text that a query gives.</summary>
    public object? Ask(string sql)
    {
        using var connection = new NpgsqlConnection(Database + ";Pooling=false");
        connection.Open();
        using var command = new NpgsqlCommand(sql, connection);
        return command.ExecuteScalar();
    }

    /// <summary>The address of the node that serves a space; null: none.</summary>
    public string? OwnerOf(string space) => Ask("SELECT n.url FROM space s JOIN space_owner o ON o.space=s.id JOIN node n ON " +
        $"n.incarnation=o.incarnation WHERE s.name='{space}'") as string;

    public async ValueTask DisposeAsync()
    {
        foreach (var node in Nodes) await node.DisposeAsync();
        server.Dispose();
        Directory.Delete(folder, recursive: true);
    }
}
