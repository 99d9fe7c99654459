// What `rovett conformance` starts: an application that uses the .NET client, and tells what it sees (docs/conformance/README.md).
using System.Text.Json.Nodes;
using Rovett.Client;

void Tell(string what, JsonNode? details) => Console.WriteLine(new JsonObject { [what] = details?.DeepClone() }.ToJsonString());

int tokens = 0;
using var live = new LiveConnection(new Uri(Environment.GetEnvironmentVariable("ROVETT_URL")!),
    _ => new ValueTask<string>($"conformance.token.{++tokens}"), new LiveOptions { Device = "bridge-tablet" });
Tell("can", new JsonArray());
await foreach (var message in live.Messages())
{
    switch ((string)message["kind"]!)
    {
        case "notification":
            Tell("handled", new JsonObject { ["id"] = message["id"]?.DeepClone(), ["title"] = message["title"]!.DeepClone() });
            break;
        case "gap":
            Tell("gap", message);
            break;
        case "withdrawn" or "expired" or "replaced" or "taken" or "released" or "read":
            Tell("change", message);
            break;
    }
}
await Task.Delay(Timeout.Infinite); // it has ended for good: whoever started this ends it
