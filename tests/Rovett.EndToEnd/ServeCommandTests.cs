using System.Diagnostics;
using System.Globalization;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>Starting, configuring, stopping, backing up and recovering the service by its commands.</summary>
public sealed class ServeCommandTests : CommandLineGround
{
    [Fact]
    public async Task A_second_serve_is_refused_and_names_the_first_until_that_is_gone()
    {
        var data = Path.Combine(Folder, "data");
        var second = await ServiceProcess.Cli(["serve", "--data", data, "--port", "0"]);
        (second.ExitCode, second.Out).ShouldBe((1, ""));
        second.Error.ShouldContain($"The data folder '{data}' is in use by process {Service.Id}.");
        second.Error.Trim().Split('\n').Length.ShouldBeLessThan(4);
        (await ServiceProcess.Cli(["key", "recover", "--data", data])).Error.ShouldContain($"in use by process {Service.Id}");
        await Service.Kill();
        using var third = await ServiceProcess.Start(Folder);
        (await ServiceProcess.Cli(["status", "--url", third.Url.ToString()], Environment)).ExitCode.ShouldBe(0);
    }

    [Fact]
    public async Task A_port_in_use_is_said_in_a_line()
    {
        var run = await ServiceProcess.Cli(
            ["serve", "--data", Path.Combine(Folder, "other"), "--port", Service.Url.Port.ToString(CultureInfo.InvariantCulture)]);
        (run.ExitCode, run.Out).ShouldBe((1, ""));
        run.Error.ShouldContain($"Port {Service.Url.Port} of 127.0.0.1 is in use.");
        run.Error.Trim().Split('\n').Length.ShouldBe(2);
    }

    [Fact]
    public async Task A_lost_admin_key_is_replaced_by_who_holds_the_folder()
    {
        var data = Path.Combine(Folder, "data");
        await Service.Kill();
        var wrong = await ServiceProcess.Cli(["key", "recover", "--data", data, "--space", "nowhere"]);
        (wrong.ExitCode, wrong.Error.Contains("Spaces: main", StringComparison.Ordinal)).ShouldBe((2, true), wrong.Error);
        (await ServiceProcess.Cli(["key", "recover", "--data", Folder])).ExitCode.ShouldBe(2);
        var made = await ServiceProcess.Cli(["key", "recover", "--data", data]);
        made.ExitCode.ShouldBe(0, made.Error);
        Environment["ROVETT_KEY"] = made.Out.Trim().Split('\n')[^1];
        using var again = await ServiceProcess.Start(Folder);
        Environment["ROVETT_URL"] = again.Url.ToString();
        (await Json("key", "list"))["keys"]!.AsArray().Select(k => (string)k!["name"]!)
            .ShouldBe(["first admin key", "recovered admin key"]);
        (await Cli("audit", "--json")).Out.Split('\n')
            .ShouldContain(l => l.Contains("\"act\":\"api-key.recovered\"") && l.Contains("\"actor\":\"local:"));
    }

    [Fact]
    public async Task All_mistakes_of_a_configuration_are_named_at_once_with_their_lines()
    {
        var file = Path.Combine(Folder, "rovett.yaml");
        await File.WriteAllTextAsync(file,
            "port: many\norigin:\n  - https://crew.example\norigins:\n  - https://crew.example/path\nwindow: 0\n");
        var run = await Cli("serve", "--config", file);
        run.ExitCode.ShouldBe(2);
        foreach (var line in new[] { "rovett.yaml:1: 'port' must be a whole number",
            "rovett.yaml:2: 'origin' is not a setting; did you mean 'origins'?",
                "rovett.yaml:4: 'https://crew.example/path' is not an origin",
                "rovett.yaml:6: 'window' is 0" })
        {
            run.Error.ShouldContain(line);
        }
    }

    [Fact]
    public async Task File_environment_and_flags_are_read_in_this_order_and_a_stop_is_clean()
    {
        var other = Directory.CreateTempSubdirectory("rovett-cli-").FullName;
        var file = Path.Combine(other, "rovett.yaml");
        await File.WriteAllTextAsync(file, "heartbeatSeconds: 7\nwindow: 17\nspaces: [harbour]\n");
        using (var configured = await ServiceProcess.Start(other, ["--config", file, "--heartbeat-seconds", "9"],
            new Dictionary<string, string> { ["ROVETT_WINDOW"] = "27", ["ROVETT_HEARTBEAT_SECONDS"] = "8" }))
        {
            File.GetUnixFileMode(Directory.GetFiles(other, "ready-*.json").Single())
                .ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
            var token = TestTokens.Make((string)configured.Ready["spaces"]!["harbour"]!["tokenSigningSecret"]!, "pia", ["harbour-desk"]);
            using var live = await RawWebSocket.Connect(configured.Url.Port, "/s/harbour/v1/live", token);
            var opened = await live.Next("opened");
            ((int)opened["window"]!).ShouldBe(27);
            ((int)opened["heartbeatSeconds"]!).ShouldBe(9);
            ((string)opened["space"]!).ShouldBe("harbour");
            var stopping = configured.Terminate();
            ((string)(await live.Next("ending"))["reason"]!).ShouldBe("shutdown");
            (await stopping).ShouldBe(0);
        }
        using (var again = await ServiceProcess.Start(other)) again.Ready["credentials"].ShouldBeNull();
        Directory.Delete(other, recursive: true);
    }

    [Fact]
    public async Task The_demo_plays_to_its_end_and_every_check_holds()
    {
        var run = await ServiceProcess.Cli(["demo", "--port", "0", "--page-port", "0", "--once", "--pace", "0.05"]);
        run.ExitCode.ShouldBe(0, run.Out + run.Error);
        run.Out.ShouldContain("All checks passed.");
        run.Out.Split('✓').Length.ShouldBeGreaterThan(10);
    }

    [Fact]
    public async Task A_backup_of_the_running_service_is_restored_to_another_life_that_devices_hear_of()
    {
        await Json("send", "--to", "user:mara", "--type", "t", "--title", "before the backup");
        var cursor = (string)(await Json("inbox", "--user", "mara", "--role", "engineer"))["cursor"]!;
        var (backup, restored) = (Path.Combine(Folder, "backup"), Path.Combine(Folder, "second", "data"));
        var made = await Cli("store", "backup", "--data", Path.Combine(Folder, "data"), "--to", backup);
        made.ExitCode.ShouldBe(0, made.Error);
        await Json("send", "--to", "user:mara", "--type", "t", "--title", "after the backup");
        // Nothing is written over.
        (await Cli("store", "backup", "--data", Path.Combine(Folder, "data"), "--to", backup)).ExitCode.ShouldBe(2);
        (await Cli("store", "restore", "--from", backup, "--data", restored)).ExitCode.ShouldBe(0);
        (await Cli("store", "check", "--data", restored)).Out.ShouldContain("Nothing is wrong");
        (await Cli("store", "check", "--data", Folder)).ExitCode.ShouldBe(2);

        using var again = await ServiceProcess.Start(Path.Combine(Folder, "second"));
        Environment["ROVETT_URL"] = again.Url.ToString();
        var heard = await Cli("receive", "--user", "mara", "--after", cursor, "--count", "1", "--json");
        heard.Out.ShouldContain("\"reason\":\"new-life\"");
        heard.Out.ShouldContain("before the backup");
        heard.Out.ShouldNotContain("after the backup");
    }

    [Fact]
    public async Task A_backup_goes_through_a_pipe_and_back()
    {
        await Json("send", "--to", "user:mara", "--type", "t", "--title", "through the pipe");
        var (data, restored) = (Path.Combine(Folder, "data"), Path.Combine(Folder, "piped", "data"));
        var rovett = $"dotnet {Path.Combine(ServiceProcess.Root, ".build", "cli", "rovett.dll")} store";
        using var shell = Process.Start("bash", ["-c",
            $"set -o pipefail; {rovett} backup --data {data} --to - | gzip | gunzip | {rovett} restore --from - --data {restored}"]);
        await shell.WaitForExitAsync(TestContext.Current.CancellationToken);
        shell.ExitCode.ShouldBe(0);
        (await Cli("store", "check", "--data", restored)).Out.ShouldContain("Nothing is wrong");
        // Half an archive leaves nothing behind.
        using var half = Process.Start("bash", ["-c", $"{rovett} backup --data {data} --to - | head -c 20000 | {rovett} restore --from " +
            $"- --data " +
            $"{restored}2 2> {restored}.err"]);
        await half.WaitForExitAsync(TestContext.Current.CancellationToken);
        half.ExitCode.ShouldBe(2);
        (await File.ReadAllTextAsync(restored + ".err", TestContext.Current.CancellationToken)).ShouldContain("--from: The archive");
        Directory.Exists(restored + "2").ShouldBeFalse();
    }
}
