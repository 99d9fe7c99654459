using System.Text.Json;
using System.Text.Json.Serialization;

namespace Rovett.Service.Endpoints.Live;

/// <summary>The code that reads and writes the records of this folder.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata, PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase)]
[JsonSerializable(typeof(LiveQuery)), JsonSerializable(typeof(PollQuery)), JsonSerializable(typeof(JsonElement))]
sealed partial class LiveJson : JsonSerializerContext;
