namespace Rovett.Core.Nodes;

/// <summary>A list in no order, of which an item is removed in one step.</summary>
sealed class Roster<T> where T : Roster<T>.Item
{
    /// <summary>What can be in one such list.</summary>
    public abstract class Item
    {
        internal int Index { get; set; } = -1;
    }

    static readonly List<T> None = [];
    List<T> items = None; // until there is one

    /// <summary>How many there are.</summary>
    public int Count => items.Count;

    /// <summary>All of them.</summary>
    public IReadOnlyList<T> Items => items;

    /// <summary>Enumerates them.</summary>
    public List<T>.Enumerator GetEnumerator() => items.GetEnumerator();

    /// <summary>Adds one that is in no list.</summary>
    public void Add(T item)
    {
        if (ReferenceEquals(items, None)) items = new List<T>(1);
        item.Index = items.Count;
        items.Add(item);
    }

    /// <summary>Removes one.</summary>
    /// <returns>False when it is not in this list.</returns>
    public bool Remove(T item)
    {
        if (item.Index < 0 || item.Index >= items.Count || items[item.Index] != item) return false;
        var last = items[^1];
        items[item.Index] = last;
        last.Index = item.Index;
        items.RemoveAt(items.Count - 1);
        item.Index = -1;
        return true;
    }
}
