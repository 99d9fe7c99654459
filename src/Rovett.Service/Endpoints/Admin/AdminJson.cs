using System.Text.Json.Serialization;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>The code that reads and writes the records of this folder.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata, PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, Converters = [typeof(StoredTimeConverter)])]
[JsonSerializable(typeof(KeyRequest)), JsonSerializable(typeof(RotateRequest)), JsonSerializable(typeof(KeyAnswer))]
[JsonSerializable(typeof(KeyList)), JsonSerializable(typeof(SigningKeyRequest)), JsonSerializable(typeof(SigningKeyAnswer))]
[JsonSerializable(typeof(SigningKeyList)), JsonSerializable(typeof(RemovedAnswer)), JsonSerializable(typeof(SettingsPatch))]
[JsonSerializable(typeof(SettingsAnswer)), JsonSerializable(typeof(AuditQuery)), JsonSerializable(typeof(AuditPage))]
[JsonSerializable(typeof(DeciderRequest)), JsonSerializable(typeof(DeciderAnswer)), JsonSerializable(typeof(DeciderList))]
[JsonSerializable(typeof(ClockAnswer)), JsonSerializable(typeof(SpaceRequest)), JsonSerializable(typeof(SpaceCreated))]
[JsonSerializable(typeof(SpaceList)), JsonSerializable(typeof(ClusterAnswer)), JsonSerializable(typeof(MoveRequest))]
[JsonSerializable(typeof(DrainRequest))]
sealed partial class AdminJson : JsonSerializerContext;
