using System.Net.Sockets;
using System.Text.Json.Nodes;
using Rovett.Service.Options;
using Rovett.Service.Tests.Events;
using Rovett.Testing;
using Shouldly;

namespace Rovett.Service.Tests.Intakes;

/// <summary>A service with intakes out of a file, and a rule that makes a notification for <c>mara</c> of each event.</summary>
static class IntakeGround
{
    public const string Rules = """
        rules:
          - name: Tell Mara
            event: ["bilge.*", "engine.*", "day.*"]
            to: ["user:mara"]
            notification: { title: "{{ data.text }}" }
        """;

    public static async Task<ServiceUnderTest> Start(string intakes, TimeProvider? clock = null)
    {
        var file = Path.Combine(Directory.CreateTempSubdirectory("rovett-intakes-").FullName, "intakes.yaml");
        await File.WriteAllTextAsync(file, intakes);
        RovettOptions options = null!;
        var service = await ServiceUnderTest.Start(o => options = o, clock);
        await service.Load(Rules);
        options.Intakes = file; // what waits there finds the rules
        await service.Restart();
        return service;
    }

    public static async Task<JsonNode> Intake(this ServiceUnderTest service, string name) =>
        (await service.Get("/v1/intakes/" + name, service.Key)).Json!;

    public static Task<JsonNode> Until(this ServiceUnderTest service, string name, Func<JsonNode, bool> holds, string what) =>
        Eventually.Holds(() => service.Intake(name), holds, what);

    /// <summary>What Mara was told, oldest first, once it is so much.</summary>
    public static async Task<string[]> Told(this ServiceUnderTest service, int count) => [.. await Eventually.Holds(async () =>
    {
        var found = (await service.Get("/v1/notifications?to=user:mara&limit=200", service.Key)).Json!["notifications"]!.AsArray();
        return found.Select(n => (string)n!["title"]!).Reverse().ToList();
    }, t => t.Count >= count, $"{count} notifications")];

    public static string Event(string id, string text, string type = "engine.check.due", string more = "") =>
        $$$"""{"specversion":"1.0","id":"{{{id}}}","source":"/planning/1","type":"{{{type}}}"{{{more}}},"data":{"text":"{{{text}}}"}}""";
}

/// <summary>A connection that sends lines and reads answers.</summary>
sealed class LineClient : IDisposable
{
    readonly Socket socket;
    readonly StreamReader reader;

    LineClient(Socket socket)
    {
        this.socket = socket;
        reader = new StreamReader(new NetworkStream(socket));
    }

    public static async Task<LineClient> Open(string host, int port)
    {
        var socket = new Socket(SocketType.Stream, ProtocolType.Tcp);
        await socket.ConnectAsync(host, port);
        return new LineClient(socket);
    }

    public static async Task<LineClient> Open(string path)
    {
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        await socket.ConnectAsync(new UnixDomainSocketEndPoint(path));
        return new LineClient(socket);
    }

    public async Task Send(params string[] lines) =>
        await socket.SendAsync(System.Text.Encoding.UTF8.GetBytes(string.Concat(lines.Select(l => l + "\n"))));

    /// <summary>The next answer; null once the other side has closed.</summary>
    public async Task<JsonNode?> Answer()
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
        return await reader.ReadLineAsync(limit.Token) is { } line ? JsonNode.Parse(line) : null;
    }

    public async Task<JsonNode> Ask(string line)
    {
        await Send(line);
        return (await Answer()).ShouldNotBeNull();
    }

    public void Dispose() => socket.Dispose();
}
