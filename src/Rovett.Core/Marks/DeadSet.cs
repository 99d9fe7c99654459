using System.Numerics;

namespace Rovett.Core.Marks;

/// <summary>The dead ordinals of a log, which nobody may see: bitmap blocks with cumulative counts, so that "how many
/// of these are dead" costs two look-ups, however long the log is.</summary>
public sealed class DeadSet
{
    readonly BlockMap blocks;
    int[] tree = []; // Fenwick tree of the blocks' counts, from index 1

    /// <summary>Creates a set over stored blocks.</summary>
    public DeadSet(IBlockSource? source = null) => blocks = new BlockMap(source, this);

    /// <summary>The blocks that changed since <see cref="ClearChanges"/>, for the store.</summary>
    public IReadOnlyCollection<int> ChangedBlocks => blocks.Changed ?? (IReadOnlyCollection<int>)[];

    /// <summary>Clears the list of changes once they are stored.</summary>
    public void ClearChanges() => blocks.Changed = null;

    /// <summary>The stored form of a block with its count, or null when it holds nothing.</summary>
    public (byte[] Bits, int Count)? StoredBlock(int block) => blocks.Stored(block);

    /// <summary>True when nothing is dead.</summary>
    public bool IsEmpty => blocks.IsEmpty;

    /// <summary>Whether an ordinal is dead.</summary>
    public bool Contains(long ordinal)
    {
        long bit = ordinal - 1;
        return blocks.Find((int)(bit / BlockMap.BlockSize)) is { } words
            && (words[bit % BlockMap.BlockSize / 64] >> (int)(bit & 63) & 1) != 0;
    }

    internal bool Lacks(int block) => blocks.Find(block) is null;

    internal ulong Word(long index) =>
        blocks.Find((int)(index / BlockMap.WordsPerBlock)) is { } words ? words[index % BlockMap.WordsPerBlock] : 0;

    /// <summary>How many ordinals of (<paramref name="lo"/>, <paramref name="hi"/>] are dead.</summary>
    public long Count(long lo, long hi) => hi <= lo || blocks.IsEmpty ? 0 : Rank(hi) - Rank(lo);

    /// <summary>The first dead ordinal after <paramref name="after"/>; hi + 1 when none is.</summary>
    internal long Next(long after, long hi)
    {
        while (after < hi)
        {
            long end = Math.Min(hi, (after / BlockMap.BlockSize + 1) * BlockMap.BlockSize);
            for (long w = after / 64; !Lacks((int)(after / BlockMap.BlockSize)) && w * 64 < end; w++)
            {
                ulong word = Word(w) & OrdinalSet.Mask(w, after, end);
                if (word != 0) return w * 64 + BitOperations.TrailingZeroCount(word) + 1;
            }
            after = end;
        }
        return hi + 1;
    }

    long Rank(long ordinal)
    {
        int block = (int)(ordinal / BlockMap.BlockSize);
        long sum = 0;
        for (int i = Math.Min(block, tree.Length - 1); i > 0; i -= i & -i) sum += tree[i];
        int bits = (int)(ordinal % BlockMap.BlockSize);
        if (bits == 0 || blocks.Find(block) is not { } words) return sum;
        sum += BlockMap.Population(words.AsSpan(0, bits / 64));
        if ((bits & 63) != 0) sum += BitOperations.PopCount(words[bits / 64] & ((1UL << (bits & 63)) - 1));
        return sum;
    }

    /// <summary>Adds an ordinal.</summary>
    /// <returns>False when it was dead already.</returns>
    public bool Add(long ordinal) => Set(ordinal, true);

    /// <summary>Removes an ordinal.</summary>
    /// <returns>False when it was alive.</returns>
    public bool Remove(long ordinal) => Set(ordinal, false);

    bool Set(long ordinal, bool dead)
    {
        if (Contains(ordinal) == dead) return false;
        int block = BlockMap.BlockOf(ordinal);
        blocks.Own(block)[(ordinal - 1) % BlockMap.BlockSize / 64] ^= 1UL << (int)((ordinal - 1) & 63);
        Add(block, dead ? 1 : -1);
        return true;
    }

    /// <summary>Drops blocks that lie wholly at or below an ordinal.</summary>
    public void Trim(long ordinal)
    {
        foreach (int block in blocks.Keys.TakeWhile(b => (b + 1L) * BlockMap.BlockSize <= ordinal).ToList())
        {
            Add(block, -BlockMap.Population(blocks.Find(block)!));
            blocks.Drop(block);
        }
    }

    /// <summary>Adds to a block's count.</summary>
    internal void Add(int block, int count)
    {
        int index = block + 1;
        if (index >= tree.Length) Grow(index);
        for (; index < tree.Length; index += index & -index) tree[index] += count;
    }

    void Grow(int index)
    {
        int size = Math.Max(2, tree.Length);
        var counts = new int[tree.Length];
        for (int i = 1; i < tree.Length; i++) counts[i] = Prefix(i) - Prefix(i - 1);
        while (size <= index) size *= 2;
        tree = new int[size];
        for (int i = 1; i < counts.Length; i++)
        {
            if (counts[i] != 0) Add(i - 1, counts[i]);
        }
    }

    int Prefix(int index)
    {
        int sum = 0;
        for (; index > 0; index -= index & -index) sum += tree[index];
        return sum;
    }
}
