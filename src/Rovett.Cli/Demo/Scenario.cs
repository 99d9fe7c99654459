using System.Text.Json.Nodes;
using Rovett.Client;
using YamlDotNet.RepresentationModel;

namespace Rovett.Cli.Demo;

/// <summary>A person of the scenario.</summary>
sealed record Person(string Id, string Name, IReadOnlyList<string> Roles);

/// <summary>Something that happens, and the title that people are told it by.</summary>
sealed record Happening(string Source, string Type, string? Actor, JsonNode Data, string Told)
{
    /// <summary>As an event of its own.</summary>
    public BackendEvent ToEvent() => new(Source, Type, null, Data)
    {
        Extensions = Actor is null ? new Dictionary<string, string>() : new Dictionary<string, string> { ["actor"] = Actor },
    };
}

/// <summary>The demo's people and events, from <c>demo/scenario.yaml</c>.</summary>
sealed record Scenario(IReadOnlyList<Person> People, IReadOnlyList<Happening> Day, IReadOnlyList<Happening> BusyHour, Happening Job,
    IReadOnlyList<Happening> Warnings, Happening FalseAlarm, IReadOnlyList<Happening> Berth)
{
    public static Scenario Read(string path)
    {
        var yaml = new YamlStream();
        using (var text = new StreamReader(path)) yaml.Load(text);
        var root = (JsonObject)Yaml.ToJson(yaml.Documents[0].RootNode);
        return new Scenario(
            [.. root["people"]!.AsArray()
            .Select(p => new Person((string)p!["id"]!, (string)p["name"]!, [.. p["roles"]!.AsArray().Select(r => (string)r!)]))],
            All("day"), All("busyHour"), One(root["job"]!), All("warnings"), One(root["falseAlarm"]!), All("berth"));

        List<Happening> All(string name) => [.. root[name]!.AsArray().Select(e => One(e!))];
    }

    static Happening One(JsonNode node) =>
        new((string)node["source"]!, (string)node["type"]!, (string?)node["actor"], node["data"]!, (string)node["told"]!);

    public Person Find(string id) => People.First(p => p.Id == id);
}
