using System.Text.Json;
using Rovett.Service.Audit;
using Rovett.Service.Http;
using Rovett.Storage.Sql;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>Where the trail is read from.</summary>
public sealed record AuditQuery
{
    /// <summary>Lines after this number.</summary>
    [Whole(0, long.MaxValue, Is = "the number of a line, as in 'next'"), Example(0)]
    public long? After { get; set; }
}

/// <summary>Entries, oldest first.</summary>
public sealed record AuditPage
{
    /// <summary>The lines.</summary>
    public required IReadOnlyList<ActAnswer> Acts { get; init; }

    /// <summary>Ask with <c>after</c> this number for more.</summary>
    public long? Next { get; init; }
}

/// <summary>A line of the trail.</summary>
public sealed record ActAnswer
{
    /// <summary>Its number.</summary>
    [Example(12)]
    public required long Number { get; init; }

    /// <summary>When.</summary>
    public required StoredTime Time { get; init; }

    /// <summary>Who: a key, an operator, a user, or the service.</summary>
    [Example("key:k4Zt9qX2mQ0bV4k9dKx2Qp ferry operations")]
    public required string Actor { get; init; }

    /// <summary>What.</summary>
    [Example("user.put")]
    public required string Act { get; init; }

    /// <summary>To what. A person who was erased is named by a pseudonym.</summary>
    [Example("user:mara")]
    public required string About { get; init; }

    /// <summary>More, without secrets.</summary>
    [Example("{\"roles\":[\"engineer\"]}")]
    public required JsonElement Detail { get; init; }

    internal static ActAnswer Of(StoredAct act, SqlHistory history) => new()
    {
        Number = act.Id,
        Time = new StoredTime(act.Time),
        Actor = AuditTrail.Named(act.Actor, history),
        Act = act.Act,
        About = AuditTrail.Named(act.About, history),
        Detail = JsonElement.Parse(act.Detail),
    };
}
