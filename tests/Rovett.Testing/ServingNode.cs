using Npgsql;
using Rovett.Service.Credentials;
using Rovett.Service.Hosting;
using Rovett.Service.Options;
using Rovett.Testing.Servers;

namespace Rovett.Testing;

/// <summary>A node that serves all spaces of a service under test, which holds its sessions and passes all else on.</summary>
sealed class ServingNode : IAsyncDisposable
{
    readonly RovettService service;
    readonly RovettOptions options;

    ServingNode(RovettService service, RovettOptions options) => (this.service, this.options) = (service, options);

    /// <summary>Credentials that its start made.</summary>
    public IReadOnlyList<FirstCredentials> Credentials => service.Credentials;

    /// <summary>Starts it, with the options of a service, which is one more node of its cluster from now on.</summary>
    public static async Task<ServingNode> Start(RovettOptions of, TimeProvider? clock)
    {
        of.ClusterSecretFile = Path.Combine(of.Data, "cluster-secret");
        File.WriteAllText(of.ClusterSecretFile, new string('s', 40));
        of.NodeUrl = $"https://127.0.0.1:{FreePort.Next()}";
        var options = new RovettOptions();
        foreach (var property in typeof(RovettOptions).GetProperties().Where(p => p.CanWrite)) property.SetValue(options, property.GetValue(of));
        options.NodeUrl = $"https://127.0.0.1:{FreePort.Next()}";
        options.Data = Directory.CreateTempSubdirectory("rovett-serving-").FullName;
        options.Port = 0;
        var service = RovettService.Create(options, clock);
        await service.Start();
        return new ServingNode(service, options);
    }

    /// <summary>Returns once it serves every space; the other node is to serve none.</summary>
    public async Task Serves(string other)
    {
        Run($"UPDATE node SET leaving=true WHERE url='{other}'");
        await Eventually.Holds(() => (long)Run($"SELECT count(*) FROM space s WHERE s.name NOT LIKE '!%' AND NOT EXISTS (SELECT 1 FROM space_owner o JOIN node n ON " +
            $"n.incarnation=o.incarnation WHERE o.space=s.id AND n.url='{options.NodeUrl}')")! == 0, "one node serves everything");
    }

    object? Run(string sql)
    {
        using var connection = new NpgsqlConnection(options.Database + ";Pooling=false");
        connection.Open();
        using var command = new NpgsqlCommand(sql, connection);
        return command.ExecuteScalar();
    }

    public async ValueTask DisposeAsync()
    {
        await service.DisposeAsync();
        Directory.Delete(options.Data, recursive: true);
        if (service.Bugs.Count > 0) throw new InvalidOperationException("Bugs: " + string.Join("; ", service.Bugs));
    }
}
