using System.Text.Json.Serialization;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.User;

/// <summary>The code that reads and writes the records of this folder.</summary>
[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata, PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, Converters = [typeof(StoredTimeConverter)])]
[JsonSerializable(typeof(InboxQuery)), JsonSerializable(typeof(InboxAnswer)), JsonSerializable(typeof(InboxItemAnswer))]
[JsonSerializable(typeof(PersonInboxQuery)), JsonSerializable(typeof(PersonInboxAnswer))]
[JsonSerializable(typeof(TotalsQuery)), JsonSerializable(typeof(TotalsAnswer)), JsonSerializable(typeof(MarksRequest))]
[JsonSerializable(typeof(TotalsAfter)), JsonSerializable(typeof(MuteRequest)), JsonSerializable(typeof(MuteList))]
[JsonSerializable(typeof(ChoicesRequest)), JsonSerializable(typeof(ChoicesAnswer))]
[JsonSerializable(typeof(FollowRequest)), JsonSerializable(typeof(FollowList)), JsonSerializable(typeof(TicketAnswer))]
sealed partial class UserJson : JsonSerializerContext;
