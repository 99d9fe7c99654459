using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;
using Rovett.Testing;
using Shouldly;

namespace Rovett.Service.Tests.Events;

/// <summary>Loads rules and publishes events in any form.</summary>
static class EventGround
{
    public const string Rules = """
        rules:
          - name: Engine check due
            event: engine.check.due
            when: { data:/priority: [high, urgent] }
            to: ["role:engineer"]
            except: ["user:{{ actor }}"]
            notification:
              title: "{{ data.vessel }}: {{ data.check }} due"
              link: "/vessels/{{ data.vessel }}/checks"
          - name: Every crew member
            event: sailing.delayed
            to: { each: data:/crew, address: "user:{{ item }}" }
            notification: { title: "{{ data.sailing }} is late" }
        """;

    public static async Task<Answer> Load(this ServiceUnderTest service, string yaml, params (string, string)[] headers)
    {
        var answer = await service.Raw(HttpMethod.Put, "/v1/rules", service.Key, yaml, "application/yaml", headers);
        if (headers.Length == 0) answer.Status.ShouldBe(200, answer.Text);
        return answer;
    }

    public static async Task<Answer> Raw(this ServiceUnderTest service, HttpMethod method, string path, string key, string? body,
        string? type, params (string Name, string Value)[] headers)
    {
        using var client = new HttpClient();
        using var request = new HttpRequestMessage(method, new Uri(service.Url, path));
        request.Headers.TryAddWithoutValidation("Authorization", "Bearer " + key);
        if (body is not null) request.Content = new ByteArrayContent(Encoding.UTF8.GetBytes(body));
        if (type is not null) request.Content!.Headers.ContentType = MediaTypeHeaderValue.Parse(type);
        foreach (var (name, value) in headers) request.Headers.TryAddWithoutValidation(name, value);
        using var response = await client.SendAsync(request);
        var text = await response.Content.ReadAsStringAsync();
        return new Answer((int)response.StatusCode, text.Length > 0 && text[0] is '{' or '[' ? JsonNode.Parse(text) : null,
            response.Headers,
            text);
    }

    public static string Event(string id, string data, string type = "engine.check.due", string source = "/planning/1", string more = "") =>
        $$"""{"specversion":"1.0","id":"{{id}}","source":"{{source}}","type":"{{type}}"{{more}},"data":{{data}}}""";

    public static string Check(string id, string more = "") =>
        Event(id, """{"priority":"high","vessel":"turnstone","check":"bow thruster"}""", more: more);

    public static Task<Answer> Publish(this ServiceUnderTest service, string body, string? key = null, string query = "") =>
        service.Raw(HttpMethod.Post, "/v1/events" + query, key ?? service.Key, body, "application/cloudevents+json");

    public static Task<Answer> PublishLines(this ServiceUnderTest service, IEnumerable<string> lines, string? key = null) =>
        service.Raw(HttpMethod.Post, "/v1/events", key ?? service.Key, string.Join('\n', lines), "application/x-ndjson");

    public static async Task<string[]> Titles(this ServiceUnderTest service, string token) =>
        [.. (await service.Get("/v1/inbox", token)).Json!["items"]!.AsArray().Select(n => (string)n!["title"]!)];
}
