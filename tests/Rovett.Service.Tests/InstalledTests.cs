using System.Net.Sockets;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Service.Options;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>The service as a package installs it.</summary>
public sealed class InstalledTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-installed-").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    [Fact]
    public async Task It_tells_systemd_that_it_is_ready_that_it_lives_and_that_it_stops()
    {
        var path = Path.Combine(folder, "notify");
        using var socket = new Socket(AddressFamily.Unix, SocketType.Dgram, ProtocolType.Unspecified);
        socket.Bind(new UnixDomainSocketEndPoint(path));
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        async Task<string> Next()
        {
            var buffer = new byte[256];
            return Encoding.UTF8.GetString(buffer, 0, await socket.ReceiveAsync(buffer, limit.Token));
        }
        using var service = await ServiceProcess.Start(folder,
            environment: new Dictionary<string, string> { ["NOTIFY_SOCKET"] = path, ["WATCHDOG_USEC"] = "300000" });
        (await Next()).ShouldBe("READY=1");
        for (int i = 0; i < 3; i++) (await Next()).ShouldBe("WATCHDOG=1");
        var ending = service.Terminate();
        string said;
        while ((said = await Next()) == "WATCHDOG=1") { }
        said.ShouldBe("STOPPING=1");
        (await ending).ShouldBe(0);
    }

    [Fact]
    public async Task The_first_start_puts_its_credentials_into_a_file_and_prints_none()
    {
        var file = Path.Combine(folder, "credentials.json");
        var environment = new Dictionary<string, string> { ["ROVETT_CREDENTIALS_FILE"] = file };
        string key;
        using (var service = await ServiceProcess.Start(folder, environment: environment))
        {
            var kept = JsonNode.Parse(await File.ReadAllTextAsync(file, TestContext.Current.CancellationToken))!;
            key = (string)kept["credentials"]!["adminKey"]!;
            key.ShouldBe((string)service.Ready["credentials"]!["adminKey"]!);
            File.GetUnixFileMode(file).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
            await Eventually.Holds(() => service.Printed.Contains(file, StringComparison.Ordinal), "it says where they are");
            foreach (var secret in new[] { key, (string)kept["credentials"]!["tokenSigningSecret"]!,
                ((string)kept["consoleSignUp"]!).Split('=')[1] })
                service.Printed.ShouldNotContain(secret);
            await service.Kill();
        }
        using var again = await ServiceProcess.Start(folder, environment: environment);
        JsonNode.Parse(await File.ReadAllTextAsync(file, TestContext.Current.CancellationToken))!["credentials"]!["adminKey"]!.GetValue<string>().ShouldBe(key);
    }

    [Fact]
    public void The_settings_of_the_package_hold()
    {
        var options = OptionsReader.Read(Path.Combine(ServiceProcess.Root, "packaging", "rovett.yaml"), new Dictionary<string, string>(),
            new Dictionary<string, string>(), out var mistakes);
        mistakes.ShouldBeEmpty();
        (options.Data, options.Address, options.Port).ShouldBe(("/var/lib/rovett/data", "127.0.0.1", 7411));
    }

    /// <summary>What is packaged has one version.</summary>
    [Fact]
    public void All_packages_have_one_version()
    {
        string Text(params string[] path) => File.ReadAllText(Path.Combine([ServiceProcess.Root, .. path]));
        var version = Text("Directory.Build.props").Split("<Version>")[1].Split('<')[0];
        ((string)JsonNode.Parse(Text("clients", "typescript", "package.json"))!["version"]!).ShouldBe(version);
        Text("docs", "install.md").ShouldContain($"rovett_{version}_amd64.deb");
    }
}
