using System.Text.Json;
using System.Text.Json.Serialization;

namespace Rovett.Service.Http;

/// <summary>Times in answers: RFC 3339 with six decimals, in UTC.</summary>
sealed class StoredTimeConverter : JsonConverter<StoredTime>
{
    /// <inheritdoc/>
    public override StoredTime Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        StoredTime.From(reader.GetDateTimeOffset());

    /// <inheritdoc/>
    public override void Write(Utf8JsonWriter writer, StoredTime value, JsonSerializerOptions options) =>
        writer.WriteStringValue(value.ToString());
}
