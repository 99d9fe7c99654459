namespace Rovett.Service.Meters;

/// <summary>The sessions of a space over one transport.</summary>
/// <param name="Space">The space.</param>
/// <param name="Transport">The transport.</param>
public sealed record SessionCount(string Space, string Transport)
{
    /// <summary>How many are open.</summary>
    public int Open { get; set; }
    /// <summary>How many of them do not have everything yet.</summary>
    public int Behind { get; set; }
    /// <summary>Notifications sent to them and not acknowledged yet.</summary>
    public long Waiting { get; set; }
    /// <summary>Notifications sent since the start, those to sessions that have ended as well.</summary>
    public long Sent { get; set; }
    /// <summary>Bytes written since the start, to sessions whose connection is here.</summary>
    public long Bytes { get; set; }
    /// <summary>Notifications acknowledged since the start, by sessions whose connection is here.</summary>
    public long Acked { get; set; }
}
