using System.Text.Json.Nodes;
using Npgsql;
using Rovett.Client;
using Rovett.Testing;
using Rovett.Testing.Servers;

namespace Rovett.Faults;

/// <summary>Nodes as processes, with a database that they share and a front before them.</summary>
sealed class NodeProcesses : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-nodes-").FullName;
    readonly string log;
    readonly ServiceProcess?[] nodes;
    readonly List<string> past = [];
    ServiceProcess? first;

    /// <param name="count">How many.</param>
    /// <param name="database">How they reach the database.</param>
    /// <param name="log">What they log.</param>
    public NodeProcesses(int count, string database, string log = "error")
    {
        (Database, this.log, nodes) = (database, log, new ServiceProcess?[count]);
        Urls = [.. Enumerable.Range(0, count).Select(_ => $"https://127.0.0.1:{FreePort.Next()}")];
        File.WriteAllText(Secret, new string('s', 40));
    }

    string Secret => Path.Combine(folder, "cluster-secret");
    public string Database { get; }

    /// <summary>Where the nodes reach each other.</summary>
    public string[] Urls { get; }

    /// <summary>Leads to any node that was started.</summary>
    public Front Front { get; } = new();

    public int Count => nodes.Length;
    public ServiceProcess this[int i] => nodes[i] ?? throw new InvalidOperationException($"Node {i} was not started.");
    public string Key => (string)first!.Ready["credentials"]!["adminKey"]!;
    public string SigningSecret => (string)first!.Ready["credentials"]!["tokenSigningSecret"]!;

    /// <summary>Variables of their environment.</summary>
    public Dictionary<string, string> Environment { get; init; } = [];

    /// <summary>Starts all, in place of those that have ended.</summary>
    public async Task<NodeProcesses> Begin(string? build = null)
    {
        for (int i = 0; i < nodes.Length; i++) await Begin(i, build);
        return this;
    }

    /// <summary>Starts a node, in place of the one that has ended.</summary>
    public async Task Begin(int i, string? build = null)
    {
        if (nodes[i] is { } ended)
        {
            past.Add($"{Urls[i]}, ended:\n{ended.Printed}");
            nodes[i] = null;
            if (ended != first) ended.Dispose();
        }
        nodes[i] = await ServiceProcess.Start(Directory.CreateDirectory(Path.Combine(folder, $"{i}")).FullName,
            ["--database", Database, "--node-url", Urls[i], "--cluster-secret-file", Secret], Environment, log: log, build: build);
        first ??= nodes[i];
        Front.Leads(nodes.OfType<ServiceProcess>().Select(n => n.Url.Port));
    }

    /// <summary>The node that serves the space <c>main</c>, once one does.</summary>
    public async Task<int> Owner() => await Eventually.Holds(() => Task.FromResult(Array.IndexOf(Urls, Ask(
        "SELECT n.url FROM space_owner o JOIN node n ON n.incarnation=o.incarnation WHERE o.space=1") as string)),
        o => o >= 0, "a node serves the space", 30);

    /// <summary>Moves the space <c>main</c> to a node, and returns once that node serves it.</summary>
    public async Task Serves(int node)
    {
        using var client = new RovettClient(this[0].Url, Key);
        await Eventually.Holds(async () => (await client.Call(HttpMethod.Get, "/v1/cluster"))["nodes"]!.AsArray().Count(n =>
            (string)n!["state"]! == "serving"),
            n => n == Count, "all nodes serve");
        await client.Call(HttpMethod.Post, "/v1/cluster/moves", new JsonObject { ["space"] = "main", ["node"] = Urls[node] });
        await Eventually.Holds(Owner, o => o == node, "the space is where it is wanted", 30);
    }

    /// <summary>The first value that a statement gives.</summary>
    public object? Ask(string sql)
    {
        using var connection = new NpgsqlConnection(Database + ";Pooling=false");
        connection.Open();
        using var command = new NpgsqlCommand(sql, connection);
        return command.ExecuteScalar();
    }

    /// <summary>All that they have printed.</summary>
    public string Printed => string.Join("\n---\n", past.Concat(nodes.Select(n => n?.Printed ?? "")));

    public void Dispose()
    {
        foreach (var node in nodes.Append(first).OfType<ServiceProcess>().Distinct())
        {
            node.Pause(false);
            node.Dispose();
        }
        Front.Dispose();
        Directory.Delete(folder, recursive: true);
    }
}
