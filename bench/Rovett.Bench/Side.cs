using System.Buffers.Text;
using System.Diagnostics;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Testing;

namespace Rovett.Bench;

/// <summary>What is measured, a process of its own: the floor, or the service on a new data folder.</summary>
sealed class Side : IDisposable
{
    const string Sending = "/v1/notifications";

    readonly Process? floor;
    ServiceProcess? service;
    readonly string folder;
    readonly string? secret;
    readonly ECDsa curve = ECDsa.Create(ECCurve.NamedCurves.nistP256);

    Side(string folder, Process? floor, ServiceProcess? service, Uri url, TimeSpan readyAfter, Duty duty = Duty.None)
    {
        (this.folder, this.floor, this.service, Url, ReadyAfter) = (folder, floor, service, url, readyAfter);
        if (duty != Duty.None) (secret, Key) = (Duties.Secret, Duties.Key);
        if (service is null) return;
        secret = (string)service.Ready["credentials"]!["tokenSigningSecret"]!;
        Key = (string)service.Ready["credentials"]!["adminKey"]!;
    }

    public Uri Url { get; private set; }

    public string? Key { get; }

    /// <summary>From its start.</summary>
    public TimeSpan ReadyAfter { get; }

    /// <param name="isFloor">Whether it is the floor.</param>
    /// <param name="duty">What the floor does besides.</param>
    /// <param name="history">A copy of a service's history, for a floor that stores.</param>
    public static async Task<Side> Start(bool isFloor, Duty duty = Duty.None, string? history = null)
    {
        var folder = Directory.CreateTempSubdirectory("rovett-bench-").FullName;
        long began = Stopwatch.GetTimestamp();
        if (!isFloor)
        {
            var service = await ServiceProcess.Start(folder);
            return new Side(folder, null, service, service.Url, Stopwatch.GetElapsedTime(began));
        }
        var ready = Path.Combine(folder, "ready");
        var own = Path.Combine(folder, "history.db");
        if (history is not null) File.Copy(history, own);
        var floor = Process.Start("dotnet", [Environment.GetCommandLineArgs()[0], "floor", ready,
            .. duty == Duty.None ? Array.Empty<string>() : [$"{duty}", own]]);
        await Eventually.Holds(() => File.Exists(ready), "the floor listens");
        return new Side(folder, floor, null, new Uri(await File.ReadAllTextAsync(ready)), Stopwatch.GetElapsedTime(began), duty);
    }

    /// <summary>Starts the service anew: nothing is in its memory. The floor keeps nothing.</summary>
    public async Task Restart()
    {
        if (service is null) return;
        await service.Terminate();
        service.Dispose();
        service = await ServiceProcess.Start(folder);
        Url = service.Url;
    }

    /// <summary>Copies what it stored.</summary>
    public void CopyHistory(string to) => PlainHistory.Copy(Path.Combine(folder, "data", "history.db"), to);

    /// <summary>Processor time that it has used.</summary>
    public TimeSpan Cpu
    {
        get
        {
            using var process = Process.GetProcessById(floor?.Id ?? service!.Id);
            return process.TotalProcessorTime;
        }
    }

    /// <summary>The request that opens a person's session; with a new token each time.</summary>
    /// <param name="person">The person's number.</param>
    /// <param name="webSocket">Over WebSocket; otherwise server-sent events.</param>
    /// <param name="byCurve">The token is signed with ES256; see <see cref="TakeCurveKey"/>.</param>
    public string Open(int person, bool webSocket, bool byCurve = false) =>
        Load.Request(webSocket, service is null ? $"/{person}" : "/v1/live", Token(person, byCurve));

    /// <summary>Has the service take tokens that are signed with ES256.</summary>
    public async Task TakeCurveKey()
    {
        if (service is null) return;
        using var http = new HttpClient { BaseAddress = Url };
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", Key);
        var q = curve.ExportParameters(false).Q;
        var jwk = new JsonObject
        {
            ["kty"] = "EC",
            ["crv"] = "P-256",
            ["x"] = Base64Url.EncodeToString(q.X),
            ["y"] = Base64Url.EncodeToString(q.Y),
        };
        using var answer = await http.PostAsJsonAsync("/v1/signing-keys", new JsonObject { ["name"] = "curve", ["publicKey"] = jwk });
        answer.EnsureSuccessStatusCode();
    }

    string? Token(int person, bool byCurve = false) => secret is null ? null
        : TestTokens.Make(secret, $"person{person}", ["crew"], curve: byCurve ? curve : null);

    /// <summary>Where something is sent to all.</summary>
    public string ToAll(bool webSocket) => service is not null ? Sending : webSocket ? "/ws" : "/sse";

    /// <summary>What is sent: the floor passes on what the service would make of it.</summary>
    public string Body(string to) => secret is null
        ? $$$"""{"kind":"notification","cursor":"0123456789012345678901","id":"01ARZ3NDEKTSV4RRFFQ69G5FAV","to":"{{{to}}}",{{{Fields}}},"urgency":"normal","time":"2026-11-23T08:15:00.000123Z","attempt":1,"rev":77,"unread":18}"""
        : $$$"""{"to":["{{{to}}}"],{{{Fields}}}}""";

    static readonly string Fields =
        $$$"""
        "type":"engine.check.due","title":"Turnstone: bow thruster check due","data":{"pad":"{{{new string('x', 180)}}}"}
        """;

    /// <summary>The request that sends something to one person.</summary>
    public byte[] SendTo(int person)
    {
        var body = Body($"user:person{person}");
        return Encoding.ASCII.GetBytes($"POST {(service is null ? $"/one/{person}" : Sending)} HTTP/1.1\r\nHost: x\r\n" +
            $"{(Key is null ? "" : $"Authorization: Bearer {Key}\r\n")}Content-Type: application/json\r\n" +
            $"Content-Length: {body.Length}\r\n\r\n{body}");
    }

    /// <summary>Lets people fall behind, who are known already.</summary>
    /// <param name="people">How many.</param>
    /// <param name="count">How many notifications.</param>
    /// <returns>The requests that open sessions which are sent all of it.</returns>
    public async Task<string[]> Behind(int people, int count)
    {
        if (service is null) return [.. Enumerable.Range(0, people).Select(i => Load.Request(true, $"/flood/{count}", Token(i)))];
        var cursor = new TaskCompletionSource<string>();
        using (var before = new LoadSession(acks: false, static _ => { }, text => cursor.TrySetResult(text)))
        {
            await before.Connect(Url.Port, Encoding.ASCII.GetBytes(Open(0, true)), CancellationToken.None);
            await cursor.Task;
        }
        using var http = new HttpClient { BaseAddress = Url };
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", Key);
        var lines = string.Join('\n', Enumerable.Repeat(Body(people == 1 ? "user:person0" : "role:crew"), 1000));
        for (int i = 0; i < count / 1000; i++)
        {
            using var content = new StringContent(lines, Encoding.UTF8, "application/x-ndjson");
            using var answer = await http.PostAsync(Sending, content);
            answer.EnsureSuccessStatusCode();
        }
        var text = await cursor.Task;
        int at = text.IndexOf("\"cursor\":\"", StringComparison.Ordinal) + 10;
        var path = $"/v1/live?after={text[at..text.IndexOf('"', at)]}";
        return [.. Enumerable.Range(0, people).Select(i => Load.Request(true, path, Token(i)))];
    }

    public void Dispose()
    {
        if (floor is not null)
        {
            floor.Kill();
            floor.WaitForExit();
            floor.Dispose();
        }
        service?.Dispose();
        curve.Dispose();
        Directory.Delete(folder, recursive: true);
    }
}
