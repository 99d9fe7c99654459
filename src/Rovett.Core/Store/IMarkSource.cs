using Rovett.Core.Marks;

namespace Rovett.Core.Store;

/// <summary>Where a person's marks in a log are read from.</summary>
public interface IMarkSource
{
    /// <summary>Stored blocks; person 0 for the log's own dead ordinals.</summary>
    IBlockSource Blocks(long person, long log, MarkKind kind);
    /// <summary>The ordinals of a log that a person is left out of by name.</summary>
    OrdinalSet Skips(long person, long log);
}
