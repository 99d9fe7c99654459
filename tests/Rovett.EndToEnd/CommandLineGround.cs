using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>A service, and the command line with its credentials in the environment.</summary>
public abstract class CommandLineGround : IAsyncLifetime
{
    /// <summary>A folder of the test's own.</summary>
    protected string Folder { get; } = Directory.CreateTempSubdirectory("rovett-cli-").FullName;

    /// <summary>The service.</summary>
    protected ServiceProcess Service { get; set; } = null!;

    /// <summary>The environment that commands run in.</summary>
    protected Dictionary<string, string> Environment { get; } = [];

    public async ValueTask InitializeAsync()
    {
        Service = await ServiceProcess.Start(Folder);
        Environment["ROVETT_URL"] = Service.Url.ToString();
        Environment["ROVETT_KEY"] = (string)Service.Ready["credentials"]!["adminKey"]!;
        Environment["ROVETT_TOKEN_SECRET"] = (string)Service.Ready["credentials"]!["tokenSigningSecret"]!;
    }

    public ValueTask DisposeAsync()
    {
        Service.Dispose();
        Directory.Delete(Folder, recursive: true);
        GC.SuppressFinalize(this);
        return default;
    }

    /// <summary>Runs a command.</summary>
    protected Task<Run> Cli(params string[] args) => ServiceProcess.Cli(args, Environment);

    /// <summary>What a command prints with <c>--json</c>.</summary>
    protected async Task<JsonNode> Json(params string[] args)
    {
        var run = await Cli([.. args, "--json"]);
        run.ExitCode.ShouldBe(0, run.Error);
        return JsonNode.Parse(run.Out)!;
    }
}
