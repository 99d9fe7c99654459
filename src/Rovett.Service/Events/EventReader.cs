using System.Text;
using System.Text.Json;
using CloudNative.CloudEvents;
using CloudNative.CloudEvents.Http;
using Rovett.Core.Events;
using Rovett.Service.Http;

namespace Rovett.Service.Events;

/// <summary>Reads CloudEvents 1.0 over HTTP: binary, structured, batch, and one a line. Attributes become texts; of duplicate
/// attributes none wins, the event is refused.</summary>
static class EventReader
{
    const int MaxSource = 1024, MaxId = 512, MaxType = 128, MaxSubject = 256;
    const int MaxAround = 4096; // white space and escapes of an event that itself is small enough
    const string Prefix = "ce-", Format = "application/cloudevents";

    /// <summary>Reads an event in the JSON format.</summary>
    /// <param name="root">The event.</param>
    /// <param name="trace">The request's trace, for an event without one.</param>
    /// <exception cref="ProblemException">422, naming every attribute at fault.</exception>
    public static IncomingEvent Structured(JsonElement root, string? trace)
    {
        if (root.ValueKind != JsonValueKind.Object)
        {
            throw Problem.Invalid([new FieldError("(event)", "must be a JSON object: an event in the JSON format of CloudEvents")])
                .ToException();
        }
        var errors = new List<FieldError>();
        var texts = new List<KeyValuePair<string, string>>();
        JsonElement? data = null;
        byte[]? binary = null;
        foreach (var member in root.EnumerateObject())
        {
            var name = JsonText.NameOf(member);
            if (name == "data") data = member.Value;
            else if (name == "data_base64") binary = Base64(member.Value, errors);
            else if (TextOf(name, member.Value, errors) is { } text) texts.Add(KeyValuePair.Create(name, text));
        }
        if (data is not null && root.TryGetProperty("data_base64", out _))
        {
            errors.Add(new FieldError("data_base64", "can't stand beside 'data'; keep one of the two"));
        }
        var attributes = Attributes(texts, trace, errors);
        if (data is { } d && JsonText.HasBadText(d))
        {
            errors.Add(new FieldError("data", "contains U+0000 or half of a surrogate pair; leave it out"));
        }
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
        if (binary is not null) return OfBytes(attributes, binary);
        bool isJson = IsJson(attributes.GetValueOrDefault("datacontenttype"));
        return Sized(data is null || isJson ? new IncomingEvent(attributes, data is { ValueKind: JsonValueKind.Null } ? null : data)
            : new IncomingEvent(attributes, null, Encoding.UTF8.GetBytes(data.Value.GetRawText())));
    }

    /// <summary>Reads an event in binary mode: attributes in headers, data in the body.</summary>
    public static IncomingEvent Binary(IHeaderDictionary headers, byte[] body, string? trace)
    {
        var errors = new List<FieldError>();
        var texts = new List<KeyValuePair<string, string>>();
        foreach (var (header, values) in headers)
        {
            if (!header.StartsWith(Prefix, StringComparison.OrdinalIgnoreCase)) continue;
            var name = header[Prefix.Length..].ToLowerInvariant();
            if (values.Count != 1) errors.Add(new FieldError(header, "is there more than once; none of them wins"));
            else if (name is "datacontenttype")
            {
                errors.Add(new FieldError(header, "is not used here; the type of the data is Content-Type"));
            }
            else if (Decoded(values[0]!) is { } text) texts.Add(KeyValuePair.Create(name, text));
            else errors.Add(new FieldError(header, "is not percent-encoded UTF-8 (CloudEvents HTTP binding, 3.1.3.2)"));
        }
        return OfParts(texts, body, headers.ContentType.ToString(), trace, errors);
    }

    /// <summary>Reads an event as a source handed it over: in the JSON format, or its attributes beside its data.</summary>
    public static IncomingEvent Raw(RawEvent raw)
    {
        if (raw.Body.Length > IncomingEvent.MaxBytes + MaxAround) throw TooLarge(raw.Body.Length).ToException();
        bool isFormat = raw.ContentType?.StartsWith(Format, StringComparison.OrdinalIgnoreCase) == true;
        if (!isFormat && raw.Attributes.Count > 0) return OfParts(raw.Attributes, raw.Body.ToArray(), raw.ContentType, null, []);
        if (isFormat && raw.ContentType!.Split(';')[0].Trim() is var type && type is not (Format or Format + "+json"))
        {
            throw Problem.Invalid([new FieldError("content type", $"is {Shown(type)}; a source hands over one event in {Format}+json, or " +
                "its attributes beside its data")]).ToException();
        }
        using var document = Json.Parse(raw.Body.ToArray());
        return Structured(document.RootElement.Clone(), null);
    }

    static IncomingEvent OfParts(IReadOnlyList<KeyValuePair<string, string>> given, byte[] body, string? contentType, string? trace,
        List<FieldError> errors)
    {
        var texts = new List<KeyValuePair<string, string>>(given);
        if (body.Length > 0 && contentType is { Length: > 0 }) texts.Add(KeyValuePair.Create("datacontenttype", contentType));
        var attributes = Attributes(texts, trace, errors);
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
        return body.Length == 0 ? Sized(new IncomingEvent(attributes, null)) : OfBytes(attributes, body);
    }

    /// <summary>Whether a request has an event in binary mode.</summary>
    public static bool IsBinary(IHeaderDictionary headers) =>
        headers.Keys.Any(h => h.StartsWith(Prefix, StringComparison.OrdinalIgnoreCase));

    static IncomingEvent OfBytes(Dictionary<string, string> attributes, byte[] bytes)
    {
        if (attributes.TryGetValue("datacontenttype", out var type) && IsJson(type))
        {
            using var document = Json.Parse(bytes);
            if (JsonText.HasBadText(document.RootElement))
            {
                throw Problem.Invalid([new FieldError("data", "contains U+0000 or half of a surrogate pair; leave it out")]).ToException();
            }
            return Sized(new IncomingEvent(attributes, document.RootElement.Clone()));
        }
        return Sized(new IncomingEvent(attributes, null, bytes));
    }

    static IncomingEvent Sized(IncomingEvent found) =>
        found.Bytes.Length <= IncomingEvent.MaxBytes ? found : throw TooLarge(found.Bytes.Length).ToException();

    static Problem TooLarge(int bytes) => new(413, "event-too-large", "Event too large",
        $"The event has {bytes} bytes; the limit is {IncomingEvent.MaxBytes}.", "Put large content behind an address in its data.");

    static bool IsJson(string? contentType)
    {
        if (contentType is null) return true;
        var type = contentType.Split(';')[0].Trim();
        return type.Equals("application/json", StringComparison.OrdinalIgnoreCase)
            || type.Equals("text/json", StringComparison.OrdinalIgnoreCase) || type.EndsWith("+json", StringComparison.OrdinalIgnoreCase);
    }

    static byte[]? Base64(JsonElement value, List<FieldError> errors)
    {
        if (JsonText.TryString(value, out var text))
        {
            var bytes = new byte[text.Length * 3 / 4 + 3];
            if (Convert.TryFromBase64String(text, bytes, out int count)) return bytes[..count];
        }
        errors.Add(new FieldError("data_base64", "must be a text in base64"));
        return null;
    }

    static string? TextOf(string name, JsonElement value, List<FieldError> errors)
    {
        switch (value.ValueKind)
        {
            case JsonValueKind.Null: return null;
            case JsonValueKind.Number: return value.GetRawText();
            case JsonValueKind.True: return "true";
            case JsonValueKind.False: return "false";
            case JsonValueKind.String when JsonText.TryString(value, out var text): return text;
            default:
                errors.Add(new FieldError(Shown(name), "must be a text, a number, true or false"));
                return null;
        }
    }

    static Dictionary<string, string> Attributes(List<KeyValuePair<string, string>> texts, string? trace, List<FieldError> errors)
    {
        var attributes = new Dictionary<string, string>();
        var check = new CloudEvent(CloudEventsSpecVersion.V1_0);
        foreach (var (name, text) in texts)
        {
            if (!attributes.TryAdd(name, text)) errors.Add(new FieldError(Shown(name), "is there more than once; none of them wins"));
            else if (name == "specversion")
            {
                if (text != "1.0") errors.Add(new FieldError(name, $"is '{Shown(text)}'; this service takes CloudEvents 1.0"));
            }
            else if (Mistake(check, name, text) is { } mistake) errors.Add(new FieldError(Shown(name), mistake));
        }
        Require(attributes, "specversion", 8, errors, "use \"1.0\"");
        Require(attributes, "id", MaxId, errors, "give each event of a source an id of its own");
        Require(attributes, "source", MaxSource, errors, "name where it happened, such as /planning/1");
        Require(attributes, "type", MaxType, errors, "use a type such as engine.check.due");
        if (attributes.TryGetValue("subject", out var subject) && subject.Length > MaxSubject)
        {
            errors.Add(new FieldError("subject", $"is {subject.Length} characters long; the limit is {MaxSubject}"));
        }
        if (trace is not null) attributes.TryAdd("traceparent", trace);
        return attributes;
    }

    static string? Mistake(CloudEvent check, string name, string text)
    {
        if (text.Length == 0) return "is empty; leave it out";
        if (text.Any(char.IsControl)) return "contains a control character; leave it out";
        if (name is "source" or "dataschema"
            && text.Any(c => c is <= ' ' or > '~' or '"' or '<' or '>' or '\\' or '^' or '`' or '{' or '|' or '}'))
        {
            return "must be a URI-reference (RFC 3986); percent-encode other characters";
        }
        try
        {
            check.SetAttributeFromString(name, text);
            return null;
        }
        catch (ArgumentException)
        {
            return name switch
            {
                "time" => "must be a time (RFC 3339), such as 2027-06-14T09:30:00Z",
                "source" or "dataschema" => "must be a URI",
                _ => "is not the name of an attribute; names are of a-z and 0-9",
            };
        }
    }

    static void Require(Dictionary<string, string> attributes, string name, int maxBytes, List<FieldError> errors, string fix)
    {
        if (!attributes.TryGetValue(name, out var text))
        {
            if (!errors.Exists(e => e.Field == name)) errors.Add(new FieldError(name, $"is missing; {fix}"));
        }
        else if (Encoding.UTF8.GetByteCount(text) > maxBytes) errors.Add(new FieldError(name, $"is longer than {maxBytes} bytes"));
    }

    static string? Decoded(string value)
    {
        try
        {
            var text = HttpUtilities.DecodeHeaderValue(value);
            return text.Contains('\uFFFD') ? null : text;
        }
        catch (ArgumentException)
        {
            return null;
        }
    }

    static string Shown(string name) => name.Length <= 64 ? name : name[..64] + "…";
}
