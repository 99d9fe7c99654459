using System.Buffers;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Marks;

namespace Rovett.Core.Wire;

/// <summary>A message from a device, read and checked. <see cref="Problem"/> is set when it can't be carried out.</summary>
public sealed record DeviceMessage(DeviceMessageKind Kind, string? RequestId, MarkSelector? Marks, Problem? Problem)
{
    /// <summary>An ack: a handler ran.</summary>
    public bool Handled { get; init; }
    /// <summary>An ack that is none: the handler failed, and the content is wanted once more.</summary>
    public bool Again { get; init; }
    /// <summary>The subject that the user is looking at; null: nothing now.</summary>
    public string? Subject { get; init; }
    /// <summary>The newer token of a renewal.</summary>
    public string? Token { get; init; }
    /// <summary>The notification to take or release.</summary>
    public NotificationId Id { get; init; }

    /// <summary>The topic that it is about.</summary>
    public string Topic { get; init; } = "";
    /// <summary>What the device has of a topic that it subscribes to; null: it starts now.</summary>
    public Position? After { get; init; }

    /// <summary>Whose presence is meant.</summary>
    public Address Address { get; init; }

    /// <summary>What is said: JSON.</summary>
    public byte[] Data { get; init; } = [];
    /// <summary>The session that says it wants to hear it too.</summary>
    public bool ToSelf { get; init; }

    /// <summary>The message as it came, where it may be passed on.</summary>
    public ReadOnlyMemory<byte> Raw { get; set; }

    /// <summary>It is about a topic: a backend may have to be asked.</summary>
    public bool IsAboutTopic =>
        Kind is DeviceMessageKind.Subscribe or DeviceMessageKind.Unsubscribe or DeviceMessageKind.Follow or DeviceMessageKind.Unfollow
        or DeviceMessageKind.Say or DeviceMessageKind.Watch or DeviceMessageKind.Unwatch;

    /// <summary>What a device can send, for devices that send something else.</summary>
    public const string Kinds =
        "ack, markRead, markUnread, attend, take, release, subscribe, unsubscribe, follow, unfollow, watch, unwatch, say or renew";

    /// <summary>The most bytes that may be said at once.</summary>
    public const int MaxSaid = 4096;

    /// <summary>The most ids one message may name.</summary>
    public const int MaxIds = 1000;

    /// <summary>Reads one message. Never throws on what a device sent.</summary>
    /// <param name="utf8">One JSON object.</param>
    /// <param name="seal">The space's cursor seal.</param>
    public static DeviceMessage Parse(ReadOnlyMemory<byte> utf8, CursorSeal seal)
    {
        try
        {
            using var document = JsonDocument.Parse(utf8, new JsonDocumentOptions { MaxDepth = 8 });
            var message = Parse(document.RootElement, seal);
            message.Raw = utf8;
            return message;
        }
        // The latter: a name with half of a surrogate pair.
        catch (Exception malformed) when (malformed is JsonException or InvalidOperationException)
        {
            return Refuse(null,
                new Problem(400, "malformed-json", "The message is not JSON", "The message is not one JSON object.",
                "Send one JSON object with a 'kind', such as {\"kind\":\"ack\",\"upTo\":\"…\"}."));
        }
    }

    /// <summary>Reads one message of an array or a body.</summary>
    public static DeviceMessage Parse(JsonElement root, CursorSeal seal)
    {
        if (root.ValueKind != JsonValueKind.Object)
            return Refuse(null,
                new Problem(400, "malformed-message", "The message is not an object",
                $"The message is a JSON {root.ValueKind.ToString().ToLowerInvariant()}.", "Send one JSON object with a 'kind'."));
        string? requestId = null;
        if (root.TryGetProperty("requestId", out var request))
        {
            if (!JsonText.TryString(request, out requestId) || requestId.Length > Names.MaxLength)
                return Refuse(null,
                    Problem.Invalid([new FieldError("requestId", $"must be a string of at most {Names.MaxLength} characters")]));
        }
        if (!root.TryGetProperty("kind", out var kindElement) || !JsonText.TryString(kindElement, out var kind))
            return Refuse(requestId, Problem.Invalid([new FieldError("kind", $"is missing; it names what the message is: {Kinds}")]));
        switch (kind)
        {
            case "ack":
                return Selected(root, DeviceMessageKind.Ack, requestId, seal, allowSubjectAndAll: false);
            case "markRead":
                return Selected(root, DeviceMessageKind.MarkRead, requestId, seal, allowSubjectAndAll: true);
            case "markUnread":
                return Selected(root, DeviceMessageKind.MarkUnread, requestId, seal, allowSubjectAndAll: true);
            case "attend":
                return Attend(root, requestId);
            case "renew":
                return root.TryGetProperty("token", out var element) && JsonText.TryString(element, out var token) && token.Length > 0
                    ? new DeviceMessage(DeviceMessageKind.Renew, requestId, null, null) { Token = token }
                    : Refuse(requestId, Problem.Invalid([new FieldError("token", "must be a newer token of the same user's")]));
            case "take":
                return One(root, DeviceMessageKind.Take, requestId);
            case "release":
                return One(root, DeviceMessageKind.Release, requestId);
            case "subscribe":
                return AboutTopic(root, DeviceMessageKind.Subscribe, requestId, seal);
            case "unsubscribe":
                return AboutTopic(root, DeviceMessageKind.Unsubscribe, requestId, seal);
            case "follow":
                return AboutTopic(root, DeviceMessageKind.Follow, requestId, seal);
            case "unfollow":
                return AboutTopic(root, DeviceMessageKind.Unfollow, requestId, seal);
            case "watch":
                return Watched(root, DeviceMessageKind.Watch, requestId);
            case "unwatch":
                return Watched(root, DeviceMessageKind.Unwatch, requestId);
            case "say":
                return Say(root, requestId);
            default:
                return Refuse(requestId, new Problem(422, "unknown-kind", "No such kind of message",
                    $"A device can't send messages of kind '{(kind.Length <= 40 ? kind : kind[..40] + "…")}'.", $"Send {Kinds}."));
        }
    }

    static DeviceMessage Selected(JsonElement root, DeviceMessageKind kind, string? requestId, CursorSeal seal, bool allowSubjectAndAll)
    {
        bool handled = false, again = false;
        if (kind == DeviceMessageKind.Ack
            && (!Flag(root, "handled", out handled, out var wrong) || !Flag(root, "again", out again, out wrong)))
        {
            return Refuse(requestId, wrong!);
        }
        var selector = ParseSelector(root, seal, "", allowSubjectAndAll, out var problem);
        if (again && handled) problem ??= Problem.Invalid([new FieldError("again", "can't stand with handled; say one of them")]);
        if (again && selector is { Ids: null })
        {
            problem ??= Problem.Invalid([new FieldError("again", "needs ids; name the notifications whose handler failed")]);
        }
        return new DeviceMessage(kind, requestId, selector, problem) { Handled = handled, Again = again };
    }

    static bool Flag(JsonElement root, string name, out bool value, out Problem? problem)
    {
        (value, problem) = (false, null);
        if (!root.TryGetProperty(name, out var element)) return true;
        value = element.ValueKind == JsonValueKind.True;
        if (!value && element.ValueKind != JsonValueKind.False) problem = Problem.Invalid([new FieldError(name, "must be true or false")]);
        return problem is null;
    }

    static DeviceMessage Attend(JsonElement root, string? requestId)
    {
        if (root.TryGetProperty("subject", out var element))
        {
            if (element.ValueKind == JsonValueKind.Null) return new DeviceMessage(DeviceMessageKind.Attend, requestId, null, null);
            if (JsonText.TryString(element, out var subject) && subject.Length is > 0 and <= 256)
            {
                return new DeviceMessage(DeviceMessageKind.Attend, requestId, null, null) { Subject = subject };
            }
        }
        return Refuse(requestId,
            Problem.Invalid(
            [new FieldError("subject",
            "must be the subject that the user is looking at (1 to 256 characters), or null when there is none")]));
    }

    static DeviceMessage One(JsonElement root, DeviceMessageKind kind, string? requestId) =>
        root.TryGetProperty("id", out var element) && JsonText.TryString(element, out var text) && NotificationId.TryParse(text, out var id)
            ? new DeviceMessage(kind, requestId, null, null) { Id = id }
            : Refuse(requestId, Problem.Invalid([new FieldError("id", "must be a notification's id (26 characters)")]));

    static DeviceMessage AboutTopic(JsonElement root, DeviceMessageKind kind, string? requestId, CursorSeal seal)
    {
        if (TryTopic(root, out var topic) is { } wrong) return Refuse(requestId, Problem.Invalid([new FieldError("topic", wrong)]));
        if (!root.TryGetProperty("after", out var after)) return new DeviceMessage(kind, requestId, null, null) { Topic = topic };
        if (kind != DeviceMessageKind.Subscribe)
        {
            return Refuse(requestId,
                Problem.Invalid(
                [new FieldError("after", "is only for subscribe; what is followed is caught up with by the session's cursor")]));
        }
        var state = CursorState.Malformed;
        var position = default(Position);
        if (JsonText.TryString(after, out var text)) state = seal.Open(text, out position);
        // One of another life of the store: the device can't have what came since, and is caught up with as far as that goes.
        if (state == CursorState.Foreign) position = new Position(0);
        return state == CursorState.Malformed ? Refuse(requestId, BadCursor("after", state))
            : new DeviceMessage(kind, requestId, null, null) { Topic = topic, After = position };
    }

    static DeviceMessage Watched(JsonElement root, DeviceMessageKind kind, string? requestId) =>
        root.TryGetProperty("address", out var element) && JsonText.TryString(element, out var text)
        && Address.TryParse(text, out var address) is null && address.Kind is AddressKind.Topic or AddressKind.Role
            ? new DeviceMessage(kind, requestId, null, null) { Address = address }
            : Refuse(requestId,
            Problem.Invalid(
            [new FieldError("address", "must be the topic or role whose presence is meant, such as topic:berth/3 or role:engineer")]));

    static byte[] Written(JsonElement element)
    {
        var buffer = new ArrayBufferWriter<byte>(256);
        using (var writer = new Utf8JsonWriter(buffer, JsonText.WriterOptions)) element.WriteTo(writer);
        return buffer.WrittenSpan.ToArray();
    }

    static DeviceMessage Say(JsonElement root, string? requestId)
    {
        var errors = new List<FieldError>();
        if (TryTopic(root, out var topic) is { } wrong) errors.Add(new FieldError("topic", wrong));
        bool said = root.TryGetProperty("data", out var data) && data.ValueKind is not JsonValueKind.Null && !JsonText.HasBadText(data);
        byte[] json = said ? Written(data) : [];
        if (json.Length is 0 or > MaxSaid)
        {
            errors.Add(new FieldError("data", $"must be what is said: any JSON but null, of at most {MaxSaid} bytes"));
        }
        if (!Flag(root, "self", out bool self, out var problem)) return Refuse(requestId, problem!);
        return errors.Count > 0 ? Refuse(requestId, Problem.Invalid(errors))
            : new DeviceMessage(DeviceMessageKind.Say, requestId, null, null) { Topic = topic, Data = json, ToSelf = self };
    }

    static string? TryTopic(JsonElement root, out string topic) =>
        TryTopic(root.ValueKind == JsonValueKind.Object && root.TryGetProperty("topic", out var element)
            && JsonText.TryString(element, out var text) ? text : null, out topic);

    /// <summary>Reads the member <c>topic</c>.</summary>
    /// <returns>Null when it names a topic, otherwise what is wrong.</returns>
    public static string? TryTopic(string? text, out string topic)
    {
        topic = "";
        if (text is null) return "must name the topic, such as berth/3";
        return text.StartsWith("topic:", StringComparison.Ordinal)
            ? "is the topic's name without 'topic:' before it, such as berth/3"
            : TopicNames.Check(text, out topic);
    }

    /// <summary>Reads <c>ids</c>, <c>upTo</c>, <c>subject</c> or <c>all</c> of an object.</summary>
    public static MarkSelector? ParseSelector(JsonElement element, CursorSeal seal, string path, bool allowSubjectAndAll,
        out Problem? problem)
    {
        problem = null;
        int given = 0;
        List<NotificationId>? ids = null;
        (Position, string)? upTo = null;
        string? subject = null;
        bool all = false;
        if (element.TryGetProperty("ids", out var idArray))
        {
            given++;
            if (idArray.ValueKind != JsonValueKind.Array || idArray.GetArrayLength() is 0 or > MaxIds)
            {
                problem = Problem.Invalid([new FieldError(path + "ids", $"must be an array of 1 to {MaxIds} notification ids")]);
                return null;
            }
            ids = [];
            foreach (var item in idArray.EnumerateArray())
            {
                if (!JsonText.TryString(item, out var text) || !NotificationId.TryParse(text, out var id))
                {
                    problem = Problem.Invalid(
                        [new FieldError($"{path}ids[{ids.Count}]",
                        "is not a notification id; take it from a notification's 'id' (26 characters)")]);
                    return null;
                }
                ids.Add(id);
            }
        }
        if (element.TryGetProperty("upTo", out var cursor))
        {
            given++;
            var state = CursorState.Malformed;
            var position = default(Position);
            if (JsonText.TryString(cursor, out var text)) state = seal.Open(text, out position);
            if (state != CursorState.Valid)
            {
                problem = BadCursor(path + "upTo", state);
                return null;
            }
            upTo = (position, text!);
        }
        if (allowSubjectAndAll && element.TryGetProperty("subject", out var subjectElement))
        {
            given++;
            if (!JsonText.TryString(subjectElement, out subject) || subject.Length == 0)
            {
                problem = Problem.Invalid([new FieldError(path + "subject", "must be a non-empty string")]);
                return null;
            }
        }
        if (allowSubjectAndAll && element.TryGetProperty("all", out var allElement))
        {
            given++;
            all = allElement.ValueKind == JsonValueKind.True;
            if (!all)
            {
                problem = Problem.Invalid([new FieldError(path + "all", "can only be true; leave it out otherwise")]);
                return null;
            }
        }
        if (given == 1) return new MarkSelector(ids, upTo, subject, all);
        var names = allowSubjectAndAll ? "ids, upTo, subject or all" : "upTo or ids";
        problem = Problem.Invalid(
            [new FieldError(path.Length == 0 ? "(message)" : path.TrimEnd('.'),
            given == 0 ? $"says nothing of which notifications; give {names}" : $"says it twice; give only one of {names}")]);
        return null;
    }

    /// <summary>The answer to a cursor that is not of this space and epoch.</summary>
    public static Problem BadCursor(string field, CursorState state) => state == CursorState.Malformed
        ? new Problem(422, "malformed-cursor", "Not a valid cursor",
        $"{field} is not a cursor; a cursor has {CursorSeal.Length} characters.",
        "Pass the cursor exactly as received, as a string.")
        { Errors = [new FieldError(field, "is not a cursor")] }
        : new Problem(422, "foreign-cursor", "Cursor from another life of the store",
        $"{field} was created by another space, or before the store was restored.",
        "Use the newest cursor received in this session.")
        { Errors = [new FieldError(field, "was not made here")] };

    static DeviceMessage Refuse(string? requestId, Problem problem) => new(DeviceMessageKind.Unknown, requestId, null, problem);
}
