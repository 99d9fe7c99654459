using System.Buffers;
using System.Runtime.InteropServices;
using System.Text.Json;
using Rovett.Core.Addresses;

namespace Rovett.Core.Notifications;

/// <summary>Reads a notification as a backend sends it, and finds everything wrong with it at once.</summary>
public static partial class NotificationReader
{
    static readonly string[] Fields = ["to", "except", "type", "subject", "title", "body", "link", "data", "urgency", "ttl", "slot",
        "store", "takeable", "deadlines", "always", "carry"];
    static readonly string[] Urgencies = ["very-low", "low", "normal", "high"];

    /// <summary>The largest <c>data</c>, in bytes of JSON.</summary>
    public const int MaxDataBytes = 16 * 1024;

    /// <summary>The longest time to live, and the longest a deadline may lie ahead.</summary>
    public static readonly TimeSpan MaxAhead = TimeSpan.FromDays(3650);

    /// <summary>Checks a body.</summary>
    /// <param name="root">The request body.</param>
    /// <param name="termsOf">What holds for a type.</param>
    /// <param name="isStored">False for an ephemeral one (<c>"store": false</c>).</param>
    /// <exception cref="ProblemException">422, naming every field at fault.</exception>
    public static Draft Read(JsonElement root, Func<string, TypeTerms> termsOf, out bool isStored)
    {
        var errors = new List<FieldError>();
        if (root.ValueKind != JsonValueKind.Object)
        {
            throw Problem.Invalid([new FieldError("(body)", "must be a JSON object")]).ToException();
        }
        foreach (var member in root.EnumerateObject())
        {
            var name = JsonText.NameOf(member);
            if (Fields.Contains(name)) continue;
            var near = NearNames.Among(Fields, name);
            errors.Add(new FieldError(Cut(name), near.Count > 0 ? $"is not a field of a notification; did you mean '{near[0]}'?"
                : $"is not a field of a notification; the fields are {string.Join(", ", Fields)}"));
        }
        var to = Addresses(root, "to", required: true, errors);
        var except = Addresses(root, "except", required: false, errors);
        for (int i = 0; i < except.Count; i++)
        {
            if (except[i].Kind == AddressKind.Topic)
            {
                errors.Add(new FieldError($"except[{i}]", "can't be a topic; name the users or roles that are to be left out"));
            }
            else if (except[i].Kind == AddressKind.Everyone)
            {
                errors.Add(new FieldError($"except[{i}]", "can't be everyone: nobody would be left"));
            }
            else if (to.Contains(except[i]))
            {
                errors.Add(new FieldError($"except[{i}]", $"{except[i]} is in 'to' as well; leave it out of one of them"));
            }
        }
        int persons = to.Concat(except).Count(a => a.Kind == AddressKind.User);
        int others = to.Concat(except).Count(a => a.Kind != AddressKind.User);
        if (persons > Draft.MaxPersons)
        {
            errors.Add(new FieldError("to",
                $"names {persons} users with 'except'; the limit is {Draft.MaxPersons}: give them a role, or send several times"));
        }
        if (others > Draft.MaxOthers)
        {
            errors.Add(new FieldError("to", $"names {others} roles and topics with 'except'; the limit is {Draft.MaxOthers}"));
        }

        var type = Text(root, "type", required: true, 128, errors, oneLine: true);
        var terms = termsOf(type ?? "");
        if (type is not null && terms.Refusal is { } refusal) errors.Add(new FieldError("type", refusal));
        var subject = Text(root, "subject", required: false, 256, errors, oneLine: true);
        var title = Text(root, "title", required: true, 256, errors, oneLine: true);
        var body = Text(root, "body", required: false, 4096, errors, oneLine: false);
        var link = Text(root, "link", required: false, 2048, errors, oneLine: true);
        if (link is not null && LinkFault(link) is { } fault) errors.Add(new FieldError("link", fault));
        var urgency = Text(root, "urgency", required: false, 16, errors, oneLine: true);
        if (urgency is not null && !Urgencies.Contains(urgency))
        {
            errors.Add(new FieldError("urgency", $"must be one of {string.Join(", ", Urgencies)} (RFC 8030)"));
        }
        bool hasData = root.TryGetProperty("data", out var data);
        // There are never more characters than bytes.
        if (hasData && JsonMarshal.GetRawUtf8Value(data).Length > MaxDataBytes && data.GetRawText().Length > MaxDataBytes)
        {
            errors.Add(new FieldError("data", $"is over {MaxDataBytes} bytes; put large content behind 'link'"));
        }
        if (hasData && JsonText.HasBadText(data))
        {
            errors.Add(new FieldError("data", "contains U+0000 or half of a surrogate pair; leave it out"));
        }
        isStored = Flag(root, "store", true, errors);
        bool isAlways = Flag(root, "always", false, errors) || terms.IsAlways;
        var carry = CarryOf(root, terms.Carry, errors);
        if (type is not null && terms.Data is { } schema && !errors.Exists(e => e.Field == "data"))
        {
            errors.AddRange(schema.Check(hasData ? data : null, "data"));
        }
        TimeSpan? ttl = null;
        if (root.TryGetProperty("ttl", out var ttlElement))
        {
            if (ttlElement.ValueKind == JsonValueKind.Number && ttlElement.TryGetInt64(out long seconds) && seconds >= 1
                && seconds <= MaxAhead.TotalSeconds)
            {
                ttl = TimeSpan.FromSeconds(seconds);
            }
            else if (Duration(ttlElement) is { } span) ttl = span;
            else
            {
                errors.Add(new FieldError("ttl", $"must be whole seconds (RFC 8030), 1 to {(long)MaxAhead.TotalSeconds}, or a duration " +
                    "such as \"2h\"; for something that only connected users may see, use \"store\": false"));
            }
        }
        var slot = Text(root, "slot", required: false, 128, errors, oneLine: true);
        if (slot is { Length: 0 }) errors.Add(new FieldError("slot", "is empty"));
        var takeFor = Takeable(root, to, except, errors);
        var deadlines = Deadlines(root, takeFor is not null, termsOf, errors);
        if (!isStored)
        {
            carry = Carry.Full; // nothing of it could be fetched
            foreach (var field in new[] { "ttl", "slot", "takeable", "deadlines", "carry" })
            {
                if (root.TryGetProperty(field, out _))
                {
                    errors.Add(new FieldError(field, "can't stand with \"store\": false; what is not stored has no life of its own"));
                }
            }
        }
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
        return new Draft(to, except,
            Common(type!, subject, title!, body, link, urgency ?? terms.Urgency ?? "normal", hasData ? data : null,
            takeFor is not null, isAlways, carry),
            new NotificationTraits(type!, subject, terms.Receipts, takeFor) { IsAlways = isAlways })
        {
            Ttl = ttl,
            Slot = slot,
            Deadlines = deadlines,
        };
    }

    /// <summary>The least of what the type says and what the sender does.</summary>
    static Carry CarryOf(JsonElement root, Carry ofType, List<FieldError> errors)
    {
        if (!root.TryGetProperty("carry", out var element)) return ofType;
        Carry? given = !JsonText.TryString(element, out var text) ? null
            : text switch { "full" => Carry.Full, "summary" => Carry.Summary, "reference" => Carry.Reference, _ => null };
        if (given is null) errors.Add(new FieldError("carry", "must be full, summary or reference"));
        return given > ofType ? given.Value : ofType;
    }

    static bool Flag(JsonElement root, string field, bool otherwise, List<FieldError> errors)
    {
        if (!root.TryGetProperty(field, out var element)) return otherwise;
        if (element.ValueKind is JsonValueKind.True or JsonValueKind.False) return element.ValueKind == JsonValueKind.True;
        errors.Add(new FieldError(field, "must be true or false"));
        return otherwise;
    }

    static TimeSpan? Takeable(JsonElement root, List<Address> to, List<Address> except, List<FieldError> errors)
    {
        if (!root.TryGetProperty("takeable", out var element) || element.ValueKind == JsonValueKind.False) return null;
        TimeSpan? takeFor = null;
        if (element.ValueKind == JsonValueKind.True) takeFor = TimeSpan.Zero;
        else if (Duration(element) is { } time) takeFor = time;
        else if (element.ValueKind == JsonValueKind.Object && element.EnumerateObject().Count() == 1
            && element.TryGetProperty("for", out var length) && Duration(length) is { } span)
        {
            takeFor = span;
        }
        else
        {
            errors.Add(new FieldError("takeable",
                "must be true, or a duration such as \"30m\" (or \"PT30M\", ISO 8601), after which the taking ends"));
        }
        if (to.Count != 1 || to[0].Kind != AddressKind.Role)
        {
            errors.Add(new FieldError("takeable",
                "needs exactly one role in 'to': one of its members takes it, the others see that it is taken"));
        }
        else if (except.Exists(a => a.Kind != AddressKind.User))
        {
            errors.Add(new FieldError("takeable", "can't stand with roles in 'except'"));
        }
        return takeFor;
    }

    static string Cut(string name) => name.Length <= 64 ? name : name[..64] + "…";

    /// <summary>A duration from one second on; null when it is none.</summary>
    static TimeSpan? Duration(JsonElement element) =>
        JsonText.TryString(element, out var text) && Durations.Read(text) is { } span && span >= TimeSpan.FromSeconds(1)
        && span <= MaxAhead ? span : null;

    /// <summary>The mistake in a link; null when it is relative, http or https.</summary>
    public static string? LinkFault(string link)
    {
        const string fix = "write a path such as /vessels/turnstone, or an http(s) address";
        // As browsers read it: leading blanks and control characters do not count, and '\' is '/'.
        if (link.Length == 0 || link[0] <= ' ' || link.Contains('\\')) return $"must not begin with a blank or contain '\\'; {fix}";
        foreach (char c in link)
        {
            if (c < ' ' || c == 127) return $"contains a control character; {fix}";
        }
        if (link.StartsWith("//", StringComparison.Ordinal)) return $"leaves out the scheme; {fix}";
        int colon = link.IndexOf(':', StringComparison.Ordinal);
        int end = link.AsSpan().IndexOfAny('/', '?', '#');
        if (colon < 0 || (end >= 0 && end < colon)) return null;
        var scheme = link[..colon].ToLowerInvariant();
        if (scheme is not ("http" or "https")) return $"has the scheme '{(scheme.Length <= 20 ? scheme : scheme[..20] + "…")}'; {fix}";
        return Uri.TryCreate(link, UriKind.Absolute, out var uri) && uri.Host.Length > 0 ? null : $"is not an http(s) address; {fix}";
    }

    static List<Address> Addresses(JsonElement root, string field, bool required, List<FieldError> errors)
    {
        var addresses = new List<Address>();
        if (!root.TryGetProperty(field, out var element))
        {
            if (required) errors.Add(new FieldError(field, "is missing; name whom it is for, such as [\"user:mara\",\"role:engineer\"]"));
            return addresses;
        }
        if (element.ValueKind != JsonValueKind.Array || (required && element.GetArrayLength() == 0))
        {
            errors.Add(new FieldError(field, "must be an array of addresses, such as [\"user:mara\",\"role:engineer\"]"));
            return addresses;
        }
        int i = 0;
        foreach (var item in element.EnumerateArray())
        {
            string? text = null;
            var wrong = item.ValueKind != JsonValueKind.String ? "must be a string"
                : !JsonText.TryString(item, out text) ? "contains U+0000 or half of a surrogate pair"
                : Address.TryParse(text, out _);
            if (wrong is not null) errors.Add(new FieldError($"{field}[{i}]", wrong));
            else if (Address.TryParse(text, out var address) is null && !addresses.Contains(address)) addresses.Add(address);
            if (errors.Count > 20) break;
            i++;
        }
        return addresses;
    }

    static bool HasControl(string text)
    {
        foreach (char c in text)
        {
            if (char.IsControl(c)) return true;
        }
        return false;
    }

    static string? Text(JsonElement root, string field, bool required, int max, List<FieldError> errors, bool oneLine)
    {
        if (!root.TryGetProperty(field, out var element) || (element.ValueKind == JsonValueKind.Null && !required))
        {
            if (required)
            {
                errors.Add(new FieldError(field, field == "type"
                    ? "is missing; use a type such as engine.check.due"
                    : "is missing"));
            }
            return null;
        }
        if (element.ValueKind != JsonValueKind.String)
        {
            errors.Add(new FieldError(field, "must be a string"));
            return null;
        }
        if (!JsonText.TryString(element, out var text))
        {
            errors.Add(new FieldError(field, "contains U+0000 or half of a surrogate pair; leave it out"));
        }
        else if (text.Length == 0 && (required || field == "link")) errors.Add(new FieldError(field, "is empty"));
        else if (text.Length > max) errors.Add(new FieldError(field, $"is {text.Length} characters long; the limit is {max}"));
        else if (oneLine && HasControl(text))
        {
            errors.Add(new FieldError(field, "contains a control character or line break; leave it out"));
        }
        else return text;
        return null;
    }

    /// <summary>The members that are the same for everybody, as JSON without braces.</summary>
    static byte[] Common(string type, string? subject, string title, string? body, string? link, string urgency, JsonElement? data,
        bool takeable, bool isAlways, Carry carry)
    {
        var (buffer, json) = writing ??= Writing();
        try
        {
            json.WriteStartObject();
            // First, so that what is sent to devices can tell at once.
            if (carry != Carry.Full) json.WriteString("carry", carry == Carry.Summary ? "summary" : "reference");
            json.WriteString("type", type);
            if (subject is not null) json.WriteString("subject", subject);
            json.WriteString("title", title);
            if (body is not null) json.WriteString("body", body);
            if (link is not null) json.WriteString("link", link);
            json.WriteString("urgency", urgency);
            if (isAlways) json.WriteBoolean("always", true);
            if (takeable) json.WriteBoolean("takeable", true);
            if (data is { } d)
            {
                json.WritePropertyName("data");
                d.WriteTo(json);
            }
            json.WriteEndObject();
            json.Flush();
            return buffer.WrittenSpan[1..^1].ToArray();
        }
        finally
        {
            if (buffer.Capacity > MostKept) writing = null;
            buffer.ResetWrittenCount();
            json.Reset();
        }
    }

    // One for each thread that reads notifications: most are about as long as the one before.
    const int MostKept = 64 * 1024;
    [ThreadStatic] static Tuple<ArrayBufferWriter<byte>, Utf8JsonWriter>? writing;

    static Tuple<ArrayBufferWriter<byte>, Utf8JsonWriter> Writing()
    {
        var buffer = new ArrayBufferWriter<byte>(2048);
        return Tuple.Create(buffer, new Utf8JsonWriter(buffer, JsonText.WriterOptions));
    }
}
