namespace Rovett.Core.Marks;

/// <summary>The change that a user asks for.</summary>
public enum MarkVerb
{
    /// <summary>The person saw them (which implies received).</summary>
    Read,
    /// <summary>Mark them unread again.</summary>
    Unread,
    /// <summary>A device has them.</summary>
    Received,
    /// <summary>A device's handler ran for them (which implies received).</summary>
    Handled,
}
