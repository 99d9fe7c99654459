using System.Text.Json.Nodes;
using YamlDotNet.RepresentationModel;

namespace Rovett.Cli.Demo;

/// <summary>A person of the scenario.</summary>
sealed record Person(string Id, string Name, IReadOnlyList<string> Roles);

/// <summary>The demo's people and events, from <c>demo/scenario.yaml</c>.</summary>
sealed record Scenario(IReadOnlyList<Person> People, IReadOnlyList<JsonObject> Day, IReadOnlyList<JsonObject> BusyHour, JsonObject Job,
    IReadOnlyList<JsonObject> Warnings, JsonObject FalseAlarm, IReadOnlyList<JsonObject> Berth)
{
    public static Scenario Read(string path)
    {
        var yaml = new YamlStream();
        using (var text = new StreamReader(path)) yaml.Load(text);
        var root = (JsonObject)Yaml.ToJson(yaml.Documents[0].RootNode);
        return new Scenario(
            [.. root["people"]!.AsArray()
            .Select(p => new Person((string)p!["id"]!, (string)p["name"]!, [.. p["roles"]!.AsArray().Select(r => (string)r!)]))],
            Events("day"), Events("busyHour"), root["job"]!.AsObject(), Events("warnings"), root["falseAlarm"]!.AsObject(),
            Events("berth"));

        List<JsonObject> Events(string name) => [.. root[name]!.AsArray().Select(e => e!.AsObject())];
    }

    public Person Find(string id) => People.First(p => p.Id == id);
}
