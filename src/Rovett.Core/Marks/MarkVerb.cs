namespace Rovett.Core.Marks;

/// <summary>What a user asks for with marks.</summary>
public enum MarkVerb
{
    /// <summary>The person saw them (which implies received).</summary>
    Read,
    /// <summary>They are to be new again.</summary>
    Unread,
    /// <summary>A device has them.</summary>
    Received,
    /// <summary>A device's handler ran for them (which implies received).</summary>
    Handled,
}
