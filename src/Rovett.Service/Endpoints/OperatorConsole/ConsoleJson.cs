using System.Text.Json.Serialization;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>The code that reads and writes the records of this folder.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata, PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, Converters = [typeof(StoredTimeConverter)])]
[JsonSerializable(typeof(MeAnswer)), JsonSerializable(typeof(SignInRequest)), JsonSerializable(typeof(AccessAnswer))]
[JsonSerializable(typeof(OperatorsAnswer)), JsonSerializable(typeof(LinkRequest)), JsonSerializable(typeof(LinkAnswer))]
[JsonSerializable(typeof(OperatorName)), JsonSerializable(typeof(UserName)), JsonSerializable(typeof(StandInAnswer))]
[JsonSerializable(typeof(ExplainQuery))]
[JsonSerializable(typeof(ExplainAnswer)), JsonSerializable(typeof(FactsAnswer))]
sealed partial class ConsoleJson : JsonSerializerContext;
