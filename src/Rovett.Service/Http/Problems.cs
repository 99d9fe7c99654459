using System.Buffers;
using System.Globalization;
using System.Text.Json;

namespace Rovett.Service.Http;

/// <summary>Answers whatever goes wrong as RFC 9457 documents.</summary>
public static class Problems
{
    /// <summary>Writes a problem as the response.</summary>
    public static async Task Write(HttpContext context, Problem problem)
    {
        if (context.Response.HasStarted) return;
        var response = context.Response;
        response.StatusCode = problem.Status;
        response.ContentType = "application/problem+json";
        if (problem.Status == 413) response.Headers.Connection = "close"; // the rest of the body is not waited for
        if (problem.Status == 401) response.Headers.WWWAuthenticate = "Bearer";
        if (problem.RetryAfterSeconds is { } seconds) response.Headers.RetryAfter = seconds.ToString(CultureInfo.InvariantCulture);
        var buffer = new ArrayBufferWriter<byte>(512);
        await using (var json = new Utf8JsonWriter(buffer, Json.Writing))
        {
            json.WriteStartObject();
            problem.WriteMembers(json);
            json.WriteEndObject();
        }
        await response.BodyWriter.WriteAsync(buffer.WrittenMemory);
    }
}
