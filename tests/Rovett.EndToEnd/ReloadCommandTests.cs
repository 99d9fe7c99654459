using System.Diagnostics;
using System.Net;
using System.Text.Json.Nodes;
using Rovett.Client;
using Rovett.Testing;
using Shouldly;
using Xunit;

namespace Rovett.EndToEnd;

/// <summary>A running service reads its file again at SIGHUP, and <c>rovett config check</c> says before what it would find.</summary>
public sealed class ReloadCommandTests : IDisposable
{
    readonly string folder = Directory.CreateTempSubdirectory("rovett-reload-").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    string File => Path.Combine(folder, "rovett.yaml");

    static async Task Reload(ServiceProcess service)
    {
        using var kill = Process.Start("kill", ["-HUP", $"{service.Id}"]);
        await kill.WaitForExitAsync(TestContext.Current.CancellationToken);
    }

    [Fact]
    public async Task A_changed_file_is_taken_up_while_sessions_go_on_and_a_wrong_one_changes_nothing()
    {
        await System.IO.File.WriteAllTextAsync(File, "keepFor: 90d\n", TestContext.Current.CancellationToken);
        using var service = await ServiceProcess.Start(folder, ["--config", File], log: "information");
        var credentials = service.Ready["credentials"]!;
        var token = TestTokens.Make((string)credentials["tokenSigningSecret"]!, "mara");
        using var http = new HttpClient();
        async Task<HttpStatusCode> From(string origin)
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, new Uri(service.Url, "/v1/inbox/totals"));
            request.Headers.Add("Authorization", "Bearer " + token);
            request.Headers.Add("Origin", origin);
            using var answer = await http.SendAsync(request, TestContext.Current.CancellationToken);
            return answer.StatusCode;
        }
        using var live = await RawWebSocket.Connect(service.Url.Port, "/v1/live", token);
        (await From("https://crew.example")).ShouldBe(HttpStatusCode.Forbidden);

        await System.IO.File.WriteAllTextAsync(File, "keepFor: 30d\norigins: [https://crew.example]\nwindow: 12\n",
            TestContext.Current.CancellationToken);
        await Reload(service);
        await Eventually.Holds(() => From("https://crew.example"), s => s == HttpStatusCode.OK, "the origin is taken up");
        await Eventually.Holds(() => service.Printed.Contains("The setting window was changed, which the next start takes up"),
            "it says what waits");
        service.Printed.ShouldContain("The setting keepFor is '30d' from now on; it was '90d'");

        await System.IO.File.WriteAllTextAsync(File, "origins: []\nkeepFor: soon\n", TestContext.Current.CancellationToken);
        await Reload(service);
        await Eventually.Holds(() => service.Printed.Contains("are invalid; nothing was changed: " + File + ":2: 'soon' is not a time"),
            "it says why not");
        (await From("https://crew.example")).ShouldBe(HttpStatusCode.OK);
        // The session that was there is still there.
        using var backend = new RovettClient(service.Url, (string)credentials["adminKey"]!);
        await backend.Call(HttpMethod.Post, "/v1/notifications", new JsonObject
        { ["to"] = new JsonArray("user:mara"), ["type"] = "tide.turned", ["title"] = "The tide has turned" });
        (await live.Notifications(1)).ShouldHaveSingleItem();
        (await service.Terminate()).ShouldBe(0);
    }

    [Fact]
    public async Task A_check_tells_what_holds_and_where_from_without_secrets()
    {
        await System.IO.File.WriteAllTextAsync(File,
            "port: 7500\nkeepFor: 90d\ndatabase: Host=db.internal;Database=rovett;Username=rovett;Password=hush\n",
                TestContext.Current.CancellationToken);
        var check = await ServiceProcess.Cli(["config", "check", "--config", File, "--json"],
            new Dictionary<string, string> { ["ROVETT_KEEP_FR"] = "9d", ["ROVETT_WINDOW"] = "12" });
        check.ExitCode.ShouldBe(0, check.Error);
        check.Out.ShouldNotContain("hush");
        var said = JsonNode.Parse(check.Out)!;
        said["unknownVariables"]!.ToJsonString().ShouldBe("""["ROVETT_KEEP_FR"]""");
        said["settings"]!.AsArray().Select(s => $"{s!["name"]} {s["from"]} {s["atRunTime"]}").ShouldBe([$"database {File}:3 false",
            $"port {File}:1 false", $"keepFor {File}:2 true", "window ROVETT_WINDOW false"]);

        await System.IO.File.WriteAllTextAsync(File, "prt: 7500\nkeepFor: soon\n", TestContext.Current.CancellationToken);
        var wrong = await ServiceProcess.Cli(["config", "check", "--config", File]);
        wrong.ExitCode.ShouldBe(2);
        wrong.Error.ShouldContain($"{File}:1: 'prt' is not a setting; did you mean 'port'?");
        wrong.Error.ShouldContain($"{File}:2: 'soon' is not a time to keep entries for");
    }
}
