using System.Buffers;
using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Unicode;
using Microsoft.AspNetCore.Http.Features;

namespace Rovett.Service.Http;

/// <summary>Reads and writes JSON bodies.</summary>
public static class Json
{
    /// <summary>Escapes what JSON needs and nothing more.</summary>
    public static readonly JsonWriterOptions Writing = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <summary>Reads the body as one JSON value.</summary>
    /// <param name="context">The request.</param>
    /// <param name="keepBytes">Set to the body's bytes.</param>
    /// <exception cref="ProblemException">400: it is not JSON; 413: it is too large.</exception>
    public static async Task<JsonDocument> Read(HttpContext context, Action<byte[]>? keepBytes = null, long most = long.MaxValue)
    {
        var bytes = await Bytes(context, most);
        keepBytes?.Invoke(bytes);
        return Parse(bytes);
    }

    /// <summary>The body as it is.</summary>
    /// <param name="context">The request.</param>
    /// <param name="most">The most bytes to take, where the request was allowed more for another form of it.</param>
    /// <exception cref="BadHttpRequestException">413: it has more.</exception>
    public static async Task<byte[]> Bytes(HttpContext context, long most = long.MaxValue)
    {
        var reader = context.Request.BodyReader;
        for (; ; )
        {
            var result = await reader.ReadAsync(context.RequestAborted);
            if (Math.Max(result.Buffer.Length, context.Request.ContentLength ?? 0) > most)
            {
                reader.AdvanceTo(result.Buffer.End);
                throw new BadHttpRequestException("Request body too large.", StatusCodes.Status413PayloadTooLarge);
            }
            if (!result.IsCompleted)
            {
                reader.AdvanceTo(result.Buffer.Start, result.Buffer.End);
                continue;
            }
            var bytes = result.Buffer.ToArray();
            reader.AdvanceTo(result.Buffer.End);
            return bytes;
        }
    }

    /// <summary>Allows the request a body this large; a higher limit stays.</summary>
    public static void AllowBody(HttpContext context, long bytes)
    {
        if (context.Features.Get<IHttpMaxRequestBodySizeFeature>() is { IsReadOnly: false } limit)
        {
            limit.MaxRequestBodySize = Math.Max(limit.MaxRequestBodySize ?? 0, bytes);
        }
    }

    /// <summary>Whether the request asks for a dry run: <c>?dryRun=true</c>.</summary>
    /// <exception cref="ProblemException">422: it is neither true nor false.</exception>
    public static bool IsDryRun(HttpContext context) => context.Request.Query.TryGetValue("dryRun", out var given)
        && (given == "true" || (given == "false" ? false : throw Problem.Invalid([new FieldError("dryRun", "must be true or false")],
            "Correct the named query parameter.").ToException()));

    /// <summary>The version named by <c>If-Match</c>; null: none is.</summary>
    /// <param name="context">The request.</param>
    /// <param name="errors">Receives a mistake.</param>
    public static long? VersionToReplace(HttpContext context, List<FieldError> errors)
    {
        if (context.Request.Headers.IfMatch.ToString() is not { Length: > 0 } tag) return null;
        if (long.TryParse(tag.Trim('"'), NumberStyles.None, CultureInfo.InvariantCulture, out long expected)) return expected;
        errors.Add(new FieldError("If-Match", "must be the version that is to be replaced, in quotes: \"41\""));
        return null;
    }

    /// <summary>The body as an object with no other members than these.</summary>
    /// <param name="body">The body.</param>
    /// <param name="members">The members it may have.</param>
    /// <param name="errors">Each other member is added here.</param>
    /// <exception cref="ProblemException">422: it is no object.</exception>
    public static JsonElement Object(JsonDocument body, IReadOnlyList<string> members, List<FieldError> errors)
    {
        if (body.RootElement.ValueKind != JsonValueKind.Object)
        {
            throw Problem.Invalid([new FieldError("(body)", $"must be a JSON object; its members are {string.Join(", ", members)}")])
                .ToException();
        }
        foreach (var member in body.RootElement.EnumerateObject())
        {
            if (!members.Contains(member.Name))
            {
                errors.Add(new FieldError(member.Name.Length <= 64 ? member.Name : member.Name[..64] + "…",
                    $"is unknown; the members are {string.Join(", ", members)}"));
            }
        }
        return body.RootElement;
    }

    /// <summary>Reads bytes as one JSON value.</summary>
    /// <exception cref="ProblemException">400: they are not JSON in UTF-8, or name a member twice.</exception>
    public static JsonDocument Parse(byte[] bytes)
    {
        // The parser itself does not look into texts.
        if (!Utf8.IsValid(bytes))
        {
            throw new Problem(400, "malformed-json", "The body is not JSON", "It contains bytes that are not UTF-8.",
                "Send one JSON object, in UTF-8.").ToException();
        }
        try
        {
            return JsonDocument.Parse(bytes, new JsonDocumentOptions { MaxDepth = 32, AllowDuplicateProperties = false });
        }
        catch (InvalidOperationException)
        {
            throw new Problem(400, "malformed-json", "The body is not JSON", "A member name contains half of a surrogate pair.",
                "Send well-formed Unicode.").ToException();
        }
        catch (JsonException error)
        {
            throw new Problem(400, "malformed-json", "The body is not JSON",
                $"Line {error.LineNumber + 1}, byte {error.BytePositionInLine + 1}: {Plain(error.Message)}",
                "Send one JSON object in UTF-8, with each member once.").ToException();
        }
    }

    /// <summary>A value written anew, without white space between its parts.</summary>
    public static string OnOneLine(JsonElement value)
    {
        var buffer = new ArrayBufferWriter<byte>();
        using (var json = new Utf8JsonWriter(buffer, Writing)) value.WriteTo(json);
        return Encoding.UTF8.GetString(buffer.WrittenSpan);
    }

    static string Plain(string message)
    {
        int end = message.IndexOf(". ", StringComparison.Ordinal);
        return end > 0 ? message[..(end + 1)] : message;
    }

    /// <summary>Writes a JSON response.</summary>
    public static async Task Write(HttpContext context, int status, Action<Utf8JsonWriter> body)
    {
        Buffered(context, status, body);
        await context.Response.BodyWriter.FlushAsync();
    }

    // One for each thread that answers. What is written meanwhile asks nobody and waits for nothing.
    const int MostKept = 64 * 1024;
    [ThreadStatic] static Tuple<ArrayBufferWriter<byte>, Utf8JsonWriter>? writing;

    static void Buffered(HttpContext context, int status, Action<Utf8JsonWriter> body)
    {
        var (buffer, json) = writing ?? Tuple.Create(new ArrayBufferWriter<byte>(512), new Utf8JsonWriter(Stream.Null, Writing));
        writing = null; // what is written may be an answer of its own
        json.Reset(buffer);
        body(json);
        json.Flush();
        context.Response.StatusCode = status;
        context.Response.ContentType = "application/json";
        context.Response.ContentLength = buffer.WrittenCount;
        context.Response.BodyWriter.Write(buffer.WrittenSpan);
        if (buffer.Capacity > MostKept) return;
        buffer.ResetWrittenCount();
        writing = Tuple.Create(buffer, json);
    }
}
