using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Which channels.</summary>
public sealed record ChannelQuery
{
    /// <summary>Shows this channel with its members: <c>role:engineer</c>, <c>topic:berth/3</c>, <c>everyone</c>.</summary>
    [Text(1, 256), Example("role:engineer")]
    public string? Address { get; set; }

    /// <summary>In a list: those that have this text in their address, ignoring case.</summary>
    [Text(1, 128), Example("berth")]
    public string? Search { get; set; }

    /// <summary>Those after this address; of a channel's members, those after this user.</summary>
    [Text(1, 256), Example("role:deckhand")]
    public string? After { get; set; }

    /// <summary>The most of a page; 50 when left out.</summary>
    [Whole(1, 1000), Example(50)]
    public int? Limit { get; set; }
}

/// <summary>Channels by their address.</summary>
public sealed record ChannelPage
{
    /// <summary>The channels.</summary>
    public required IReadOnlyList<ChannelSummary> Channels { get; init; }
}

/// <summary>A channel in a list.</summary>
public sealed record ChannelSummary
{
    /// <summary>Its address.</summary>
    [Example("role:engineer")]
    public required string Address { get; init; }

    /// <summary>Users who hold the role, or follow the topic.</summary>
    [Example(2)]
    public required long Members { get; init; }

    /// <summary>Users who are connected and on it now, by a session's subscription too.</summary>
    [Example(1)]
    public required int Here { get; init; }

    /// <summary>Notifications that were ever sent to it alone.</summary>
    [Example(41)]
    public required long Sent { get; init; }

    /// <summary>When the newest of them was.</summary>
    public StoredTime? LastSent { get; init; }
}

/// <summary>A channel with its members.</summary>
public sealed record ChannelAnswer
{
    /// <summary>Its address.</summary>
    [Example("role:engineer")]
    public required string Address { get; init; }

    /// <summary>Users who hold the role, or follow the topic.</summary>
    [Example(2)]
    public required long Members { get; init; }

    /// <summary>Users who are connected and on it now.</summary>
    [Example(1)]
    public required int Here { get; init; }

    /// <summary>Notifications that were ever sent to it alone.</summary>
    [Example(41)]
    public required long Sent { get; init; }

    /// <summary>When the newest of them was.</summary>
    public StoredTime? LastSent { get; init; }

    /// <summary>Its members by their ids; and those who are no members and on it by a session's subscription, at most 100.</summary>
    public required IReadOnlyList<ChannelPerson> People { get; init; }
}

/// <summary>A user on a channel.</summary>
public sealed record ChannelPerson
{
    /// <summary>The id.</summary>
    [Example("mara")]
    public required string User { get; init; }

    /// <summary>The name that people read.</summary>
    [Example("Mara Quill")]
    public string? DisplayName { get; init; }

    /// <summary>Whether the user holds the role or follows the topic; false: by a session's subscription alone.</summary>
    [Example(true)]
    public required bool Member { get; init; }

    /// <summary>When the user became a member; absent when that is older than the history that is kept.</summary>
    public StoredTime? Since { get; init; }

    /// <summary>Whether a session of the user is on it now.</summary>
    [Example(true)]
    public required bool Here { get; init; }
}
