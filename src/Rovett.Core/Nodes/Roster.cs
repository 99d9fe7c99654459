namespace Rovett.Core.Nodes;

/// <summary>What can be in one <see cref="Roster{T}"/>.</summary>
abstract class RosterItem
{
    internal int Index { get; set; } = -1;
}

/// <summary>An unordered list that removes an item in one step. Most logs have an empty one, so it is a struct inside its owner; don't copy
/// it.</summary>
struct Roster<T> where T : RosterItem
{
    static readonly List<T> None = [];
    List<T>? list; // null until there is one

    readonly List<T> All => list ?? None;

    /// <summary>How many there are.</summary>
    public readonly int Count => All.Count;

    /// <summary>All of them.</summary>
    public readonly IReadOnlyList<T> Items => All;

    /// <summary>Enumerates them.</summary>
    public readonly List<T>.Enumerator GetEnumerator() => All.GetEnumerator();

    /// <summary>Adds one that is in no list.</summary>
    public void Add(T item)
    {
        list ??= new List<T>(1);
        item.Index = list.Count;
        list.Add(item);
    }

    /// <summary>Removes one.</summary>
    /// <returns>False when it is not in this list.</returns>
    public readonly bool Remove(T item)
    {
        if (item.Index < 0 || item.Index >= All.Count || All[item.Index] != item) return false;
        var last = All[^1];
        All[item.Index] = last;
        last.Index = item.Index;
        All.RemoveAt(All.Count - 1);
        item.Index = -1;
        return true;
    }
}
