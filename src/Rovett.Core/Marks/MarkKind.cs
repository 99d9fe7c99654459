namespace Rovett.Core.Marks;

/// <summary>The kinds of marks, in blocks and runs.</summary>
public enum MarkKind
{
    /// <summary>A device acknowledged it.</summary>
    Received = 1,
    /// <summary>The person saw it.</summary>
    Read = 2,
    /// <summary>A device's handler ran.</summary>
    Handled = 3,
    /// <summary>Arrived while muted by the person. Blocks only.</summary>
    Muted = 4,
    /// <summary>Dead: nobody sees it. Blocks of the log itself (person 0) only.</summary>
    Dead = 5,
}
