using System.Globalization;

namespace Rovett.Core.Values;

/// <summary>An entry's place in its space: 1, 2, 3 … in commit order. 0 is "before everything". For operators and
/// backends; users only ever see it sealed in a cursor (<c>CursorSeal</c>).</summary>
public readonly record struct Position(long Value) : IComparable<Position>
{
    /// <inheritdoc/>
    public int CompareTo(Position other) => Value.CompareTo(other.Value);
    /// <summary>Earlier than.</summary>
    public static bool operator <(Position a, Position b) => a.Value < b.Value;
    /// <summary>Later than.</summary>
    public static bool operator >(Position a, Position b) => a.Value > b.Value;
    /// <summary>Not later than.</summary>
    public static bool operator <=(Position a, Position b) => a.Value <= b.Value;
    /// <summary>Not earlier than.</summary>
    public static bool operator >=(Position a, Position b) => a.Value >= b.Value;
    /// <inheritdoc/>
    public override string ToString() => Value.ToString(CultureInfo.InvariantCulture);
}
