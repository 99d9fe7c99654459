using System.Data.Common;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;
using Microsoft.Data.Sqlite;
using Npgsql;
using Rovett.Client;
using Rovett.Service.Credentials;
using Rovett.Service.Hosting;
using Rovett.Service.Options;
using Rovett.Testing.Servers;

namespace Rovett.Testing;

/// <summary>An answer as a test looks at it.</summary>
public sealed record Answer(int Status, JsonNode? Json, HttpResponseHeaders Headers, string Text)
{
    /// <summary>The last part of a problem's type.</summary>
    public string? Problem => ((string?)(Json as JsonObject)?["type"])?.Split(':')[^1];
}

/// <summary>The real service on loopback, on a data folder of its own.</summary>
public sealed class ServiceUnderTest : IAsyncDisposable
{
    readonly HttpClient http = new(new SocketsHttpHandler { UseProxy = false, AllowAutoRedirect = false, UseCookies = false })
    { Timeout = TimeSpan.FromSeconds(30) };
    readonly bool keepFolder;
    readonly TimeProvider? clock;
    readonly RovettOptions options;
    ServingNode? serving;

    ServiceUnderTest(RovettOptions options, TimeProvider? clock, bool keepFolder, RovettService service)
    {
        this.options = options;
        this.clock = clock;
        this.keepFolder = keepFolder;
        Service = service;
    }

    public RovettService Service { get; private set; }
    public string Folder => options.Data;
    public string? Database => options.Database;
    public Uri Url => new(Service.Url);
    public int Port => Url.Port;
    public string? NodeUrl => options.NodeUrl;
    public Dictionary<string, FirstCredentials> Credentials { get; } = [];
    public string Key => Credentials["main"].AdminKey;
    public string Secret => Credentials["main"].TokenSigningSecret;

    public static async Task<ServiceUnderTest> Start(Action<RovettOptions>? configure = null, TimeProvider? clock = null,
        string? folder = null)
    {
        var options = new RovettOptions
        {
            Data = folder ?? Directory.CreateTempSubdirectory("rovett-test-").FullName,
            Port = 0,
            Log = "error",
            Metrics = "off", // all services of a process would share what is exported
        };
        configure?.Invoke(options);
        options.Database ??= TestDatabase.For(options.Data);
        var serving = TestDatabase.HasNodes && options.NodeUrl is null ? await ServingNode.Start(options, clock) : null;
        var service = RovettService.Create(options, clock);
        await service.Start();
        var made = new ServiceUnderTest(options, clock, folder is not null, service) { serving = serving };
        if (serving is not null) await serving.Serves(options.NodeUrl!);
        foreach (var credentials in serving?.Credentials ?? []) made.Credentials[credentials.Space] = credentials;
        foreach (var credentials in service.Credentials) made.Credentials[credentials.Space] = credentials;
        return made;
    }

    /// <summary>A bug that the service logs is what the test wants; otherwise it fails the test in the end.</summary>
    public bool ExpectsBugs { get; set; }

    /// <summary>Stops it and starts it again on the same folder (and a new port).</summary>
    public async Task Restart()
    {
        await Stop();
        Service = RovettService.Create(options, clock);
        await Service.Start();
    }

    /// <summary>A number out of its history, read past it.</summary>
    public long Count(string sql)
    {
        using DbConnection connection = options.Database is { } database ? new NpgsqlConnection(database + ";Pooling=false")
            : new SqliteConnection($"Data Source={Path.Combine(Folder, "history.db")};Mode=ReadOnly;Pooling=False");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        return (long)command.ExecuteScalar()!;
    }

    public string Token(string user, params string[] roles) => TestTokens.Make(Secret, user, roles);

    public RovettClient Backend() => new(Url, Key);

    public async Task<Answer> Call(HttpMethod method, string path, string? credential, string? body = null,
        params (string Name, string Value)[] headers)
    {
        using var request = new HttpRequestMessage(method, new Uri(Url, path));
        if (credential is not null) request.Headers.TryAddWithoutValidation("Authorization", "Bearer " + credential);
        if (body is not null) request.Content = new StringContent(body, Encoding.UTF8, "application/json");
        foreach (var (name, value) in headers) request.Headers.TryAddWithoutValidation(name, value);
        using var response = await http.SendAsync(request);
        var text = await response.Content.ReadAsStringAsync();
        JsonNode? json = null;
        if (text.Length > 0 && response.Content.Headers.ContentType?.MediaType?.EndsWith("json", StringComparison.Ordinal) == true)
        {
            json = JsonNode.Parse(text);
        }
        return new Answer((int)response.StatusCode, json, response.Headers, text);
    }

    public Task<Answer> Get(string path, string? credential) => Call(HttpMethod.Get, path, credential);

    public Task<Answer> Post(string path, string? credential, string body, params (string, string)[] headers) =>
        Call(HttpMethod.Post, path, credential, body, headers);

    /// <summary>Sends and answers the id.</summary>
    public async Task<string> Send(string to, string title = "Something happened", string type = "test.happened")
    {
        var addresses = string.Join(',', to.Split(' ').Select(a => $"\"{a}\""));
        var answer = await Post("/v1/notifications", Key, $$"""{"to":[{{addresses}}],"type":"{{type}}","title":"{{title}}"}""");
        if (answer.Status != 201) throw new InvalidOperationException($"The send was answered {answer.Status}: {answer.Text}");
        return (string)answer.Json!["id"]!;
    }

    public async Task<(long Unread, long Rev)> Totals(string token)
    {
        var answer = await Get("/v1/inbox/totals", token);
        if (answer.Status != 200) throw new InvalidOperationException($"The totals were answered {answer.Status}: {answer.Text}");
        return ((long)answer.Json!["unread"]!, (long)answer.Json["rev"]!);
    }

    public Task<RawWebSocket> WebSocket(string? token, string query = "", params string[] headers) =>
        RawWebSocket.Connect(Port, "/v1/live" + query, token, headers);

    public Task<RawEvents> Events(string? token, string query = "", params string[] headers) =>
        RawEvents.Connect(Port, "/v1/live" + query, token, headers);

    public async ValueTask DisposeAsync()
    {
        try
        {
            await Stop();
        }
        finally
        {
            if (serving is not null) await serving.DisposeAsync();
            http.Dispose();
            if (!keepFolder && Directory.Exists(Folder)) Directory.Delete(Folder, recursive: true);
        }
    }

    async Task Stop()
    {
        await Service.DisposeAsync();
        if (!ExpectsBugs && Service.Bugs.Count > 0) throw new InvalidOperationException("Bugs: " + string.Join("; ", Service.Bugs));
    }
}
