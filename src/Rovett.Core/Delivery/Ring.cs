namespace Rovett.Core.Delivery;

/// <summary>A queue in one array whose items can be read and changed in place. It grows as needed, and
/// releases its array when emptied.</summary>
sealed class Ring<T>
{
    T[] items = [];
    int head;

    public int Count { get; private set; }

    /// <summary>The item at a distance from the oldest.</summary>
    public ref T this[int index] => ref items[(head + index) & (items.Length - 1)];

    public void Enqueue(in T item)
    {
        if (Count == items.Length) Resize(Math.Max(2, Count * 2));
        items[(head + Count++) & (items.Length - 1)] = item;
    }

    public void Dequeue()
    {
        items[head] = default!;
        head = (head + 1) & (items.Length - 1);
        if (--Count == 0 && items.Length > 64) Clear();
    }

    /// <summary>Puts an item before the oldest.</summary>
    public void Prepend(in T item)
    {
        if (Count == items.Length) Resize(Math.Max(2, Count * 2));
        head = (head - 1) & (items.Length - 1);
        items[head] = item;
        Count++;
    }

    /// <summary>Takes everything out, oldest first.</summary>
    public T[] TakeAll()
    {
        var all = new T[Count];
        for (int i = 0; i < all.Length; i++) all[i] = this[i];
        Clear();
        return all;
    }

    public void Clear()
    {
        items = [];
        head = Count = 0;
    }

    void Resize(int length)
    {
        var larger = new T[length];
        for (int i = 0; i < Count; i++) larger[i] = this[i];
        (items, head) = (larger, 0);
    }
}
