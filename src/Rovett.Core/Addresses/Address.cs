namespace Rovett.Core.Addresses;

/// <summary>The kinds of address a notification can be for.</summary>
public enum AddressKind
{
    /// <summary>One person: <c>user:mara</c>.</summary>
    User,
    /// <summary>Everybody who holds a role: <c>role:engineer</c>.</summary>
    Role,
    /// <summary>Everybody known to the space: <c>everyone</c>.</summary>
    Everyone,
    /// <summary>Everybody who follows a topic or has subscribed to it: <c>topic:berth/3</c>.</summary>
    Topic,
}

/// <summary>A recipient of notifications: a user, a role, everyone or a topic. Compared byte by byte.</summary>
public readonly record struct Address(AddressKind Kind, string Name)
{
    /// <summary>The address of everybody.</summary>
    public static readonly Address Everyone = new(AddressKind.Everyone, "everyone");

    /// <summary>The personal address of a user.</summary>
    public static Address User(UserId user) => new(AddressKind.User, user.Value);

    /// <summary>The address of a role.</summary>
    public static Address Role(string role) => new(AddressKind.Role, role);

    /// <summary>The address of a topic.</summary>
    public static Address Topic(string topic) => new(AddressKind.Topic, topic);

    /// <summary>Reads <c>user:…</c>, <c>role:…</c>, <c>topic:…</c> or <c>everyone</c>.</summary>
    /// <returns>Null when it is an address, otherwise what is wrong, with the fix.</returns>
    public static string? TryParse(string? text, out Address address)
    {
        address = default;
        if (text == "everyone")
        {
            address = Everyone;
            return null;
        }
        int colon = text?.IndexOf(':', StringComparison.Ordinal) ?? -1;
        if (text is null || colon < 0)
        {
            return $"'{Shorten(text)}' is not an address; write user:<id>, role:<name>, topic:<path> or everyone";
        }
        var kind = text[..colon];
        if (kind == "topic")
        {
            if (TopicNames.Check(text[(colon + 1)..], out var topic) is { } bad) return $"the topic after 'topic:' {bad}";
            address = Topic(topic);
            return null;
        }
        if (kind is not ("user" or "role"))
        {
            return $"'{Shorten(kind)}:' is not a kind of address; write user:<id>, role:<name>, topic:<path> or everyone";
        }
        if (Names.Check(text[(colon + 1)..], allowSlash: false, out var name) is { } wrong) return $"the name after '{kind}:' {wrong}";
        address = new Address(kind == "user" ? AddressKind.User : AddressKind.Role, name);
        return null;
    }

    /// <summary>Reads a stored address, without applying today's rules for names.</summary>
    /// <exception cref="FormatException">The text is not an address.</exception>
    public static Address OfStored(string text) => text.IndexOf(':', StringComparison.Ordinal) is var colon and > 0 ? text[..colon] switch
    {
        "user" => new Address(AddressKind.User, text[5..]),
        "role" => new Address(AddressKind.Role, text[5..]),
        "topic" => new Address(AddressKind.Topic, text[6..]),
        _ => throw new FormatException($"Stored address: '{Shorten(text)}'"),
    }
    : text == "everyone" ? Everyone : throw new FormatException($"Stored address: '{Shorten(text)}'");

    /// <inheritdoc/>
    public override string ToString() => Kind switch
    {
        AddressKind.User => "user:" + Name,
        AddressKind.Role => "role:" + Name,
        AddressKind.Topic => "topic:" + Name,
        _ => "everyone",
    };

    static string Shorten(string? text) => text is null ? "" : text.Length <= 40 ? text : text[..40] + "…";
}

/// <summary>The id of a user within a space: a token's <c>sub</c>.</summary>
public readonly record struct UserId(string Value)
{
    /// <inheritdoc/>
    public override string ToString() => Value;
}
