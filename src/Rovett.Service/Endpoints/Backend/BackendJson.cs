using System.Text.Json.Serialization;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>The code that reads and writes the records of this folder.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata, PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, Converters = [typeof(StoredTimeConverter)])]
[JsonSerializable(typeof(NotificationRequest)), JsonSerializable(typeof(SendQuery)), JsonSerializable(typeof(SendAnswer))]
[JsonSerializable(typeof(NotificationAnswer)), JsonSerializable(typeof(WithdrawAnswer)),
JsonSerializable(typeof(StatusAnswer))]
[JsonSerializable(typeof(LimitList)), JsonSerializable(typeof(SessionList)), JsonSerializable(typeof(UserRequest))]
[JsonSerializable(typeof(UserQuery)), JsonSerializable(typeof(UserIdQuery)), JsonSerializable(typeof(UserAnswer))]
[JsonSerializable(typeof(UserPage)), JsonSerializable(typeof(SignOutAnswer)), JsonSerializable(typeof(ErasureAnswer))]
[JsonSerializable(typeof(ImportAnswer)), JsonSerializable(typeof(RoleRequest))]
[JsonSerializable(typeof(RoleQuery)), JsonSerializable(typeof(RoleAnswer)), JsonSerializable(typeof(RoleList))]
[JsonSerializable(typeof(PolicyDocument)), JsonSerializable(typeof(PolicyQuery)), JsonSerializable(typeof(PolicyAnswer))]
[JsonSerializable(typeof(LoadQuery)), JsonSerializable(typeof(PoliciesLoaded)), JsonSerializable(typeof(GrantRequest))]
[JsonSerializable(typeof(GrantQuery)), JsonSerializable(typeof(GrantAnswer)), JsonSerializable(typeof(GrantList))]
[JsonSerializable(typeof(ExplainQuery)), JsonSerializable(typeof(ExplainAnswer)), JsonSerializable(typeof(ReceiptQuery))]
[JsonSerializable(typeof(NotificationQuery)), JsonSerializable(typeof(NotificationList))]
[JsonSerializable(typeof(ReceiptPage)), JsonSerializable(typeof(WebhookRequest)), JsonSerializable(typeof(WebhookAnswer))]
[JsonSerializable(typeof(WebhookList)), JsonSerializable(typeof(ProblemAnswer))]
[JsonSerializable(typeof(MetersQuery)), JsonSerializable(typeof(MetersAnswer)), JsonSerializable(typeof(ChannelQuery))]
[JsonSerializable(typeof(ChannelPage)), JsonSerializable(typeof(ChannelAnswer))]
sealed partial class BackendJson : JsonSerializerContext;
