using System.Numerics;

namespace Rovett.Core.Marks;

/// <summary>A set of ordinals (1, 2, 3 …) of one log, made for marks: everything up to <see cref="Line"/>, and bitmap
/// blocks of 4,096 above it. Its size is bounded by the log's, whatever a client does.</summary>
public sealed class OrdinalSet(long line = 0, IBlockSource? source = null)
{
    /// <summary>Ordinals in one block.</summary>
    public const int BlockSize = BlockMap.BlockSize;

    BlockMap blocks = source is null ? BlockMap.Nothing : new(source);

    /// <summary>The blocks, to be written to.</summary>
    BlockMap Blocks => ReferenceEquals(blocks, BlockMap.Nothing) ? blocks = new BlockMap(null) : blocks;

    /// <summary>Every ordinal from 1 to this one is in the set.</summary>
    public long Line { get; private set; } = line;

    /// <summary>True when nothing is in the set.</summary>
    public bool IsEmpty => Line == 0 && blocks.IsEmpty;

    /// <summary>True when something lies above the line.</summary>
    public bool HasBlocks => !blocks.IsEmpty;

    /// <summary>How many blocks lie above the line.</summary>
    public int BlockCount => blocks.Keys.Count;

    /// <summary>The blocks whose bits changed since <see cref="ClearChanges"/>, for the store.</summary>
    public IReadOnlyCollection<int> ChangedBlocks => blocks.Changed ?? (IReadOnlyCollection<int>)[];

    /// <summary>True when the line moved since <see cref="ClearChanges"/>.</summary>
    public bool LineChanged { get; private set; }

    /// <summary>Clears the list of changes once they are stored.</summary>
    public void ClearChanges()
    {
        blocks.Changed = null;
        LineChanged = false;
    }

    /// <summary>The stored form of a block with its count, or null when it holds nothing above the line.</summary>
    public (byte[] Bits, int Count)? StoredBlock(int block) => blocks.Stored(block);

    /// <summary>Whether an ordinal is in the set.</summary>
    public bool Contains(long ordinal)
    {
        if (ordinal <= Line) return true;
        long bit = ordinal - 1;
        return blocks.Find((int)(bit / BlockSize)) is { } words && (words[bit % BlockSize / 64] >> (int)(bit & 63) & 1) != 0;
    }

    /// <summary>The 64 ordinals from <c>64·index + 1</c> on, as bits.</summary>
    internal ulong Word(long index)
    {
        long first = index * 64;
        if (first + 64 <= Line) return ulong.MaxValue;
        ulong word = Line > first ? (1UL << (int)(Line - first)) - 1 : 0;
        if (blocks.Find((int)(first / BlockSize)) is { } words) word |= words[first % BlockSize / 64];
        return word;
    }

    /// <summary>Whether a whole block is above the line and empty.</summary>
    bool LacksBlock(int block) => Line <= (long)block * BlockSize && blocks.Find(block) is null;

    /// <summary>How many ordinals of (<paramref name="lo"/>, <paramref name="hi"/>] are in none of the sets.</summary>
    /// <remarks>Cost: the words of the blocks that one of the sets has; blocks that none has are one step.</remarks>
    public static long CountInNone(long lo, long hi, DeadSet dead, ReadOnlySpan<OrdinalSet> sets)
    {
        foreach (var set in sets) lo = Math.Max(lo, set.Line);
        long count = 0;
        while (lo < hi)
        {
            int block = (int)(lo / BlockSize);
            long end = Math.Min(hi, (block + 1L) * BlockSize);
            bool bare = dead.Lacks(block);
            foreach (var set in sets) bare = bare && set.LacksBlock(block);
            if (bare) count += end - lo;
            else
            {
                for (long w = lo / 64; w <= (end - 1) / 64; w++)
                {
                    ulong taken = dead.Word(w);
                    foreach (var set in sets) taken |= set.Word(w);
                    count += BitOperations.PopCount(~taken & Mask(w, lo, end));
                }
            }
            lo = end;
        }
        return count;
    }

    /// <summary>The bits of word <paramref name="w"/> that lie in (<paramref name="lo"/>, <paramref name="hi"/>].</summary>
    internal static ulong Mask(long w, long lo, long hi)
    {
        ulong mask = ulong.MaxValue;
        long first = w * 64;
        if (lo > first) mask &= ulong.MaxValue << (int)(lo - first);
        if (hi < first + 64) mask &= ulong.MaxValue >> (int)(first + 64 - hi);
        return mask;
    }

    /// <summary>The runs of (<paramref name="lo"/>, <paramref name="hi"/>] that are in the set, or that are not.</summary>
    public void Runs(long lo, long hi, bool present, List<OrdinalRun> into)
    {
        long at = lo;
        while (at < hi)
        {
            long from = Next(at, hi, present);
            if (from > hi) return;
            long to = Next(from, hi, !present) - 1;
            into.Add(new OrdinalRun(from, to));
            at = to;
        }
    }

    /// <summary>The first ordinal after <paramref name="after"/> that is (or is not) in the set; hi + 1 when none is.</summary>
    long Next(long after, long hi, bool present)
    {
        while (after < hi)
        {
            if (after < Line)
            {
                if (present) return after + 1;
                after = Math.Min(Line, hi);
                continue;
            }
            int block = (int)(after / BlockSize);
            long end = Math.Min(hi, (block + 1L) * BlockSize);
            if (LacksBlock(block))
            {
                if (!present) return after + 1;
            }
            else
            {
                for (long w = after / 64; w * 64 < end; w++)
                {
                    ulong word = (present ? Word(w) : ~Word(w)) & Mask(w, after, end);
                    if (word != 0) return w * 64 + BitOperations.TrailingZeroCount(word) + 1;
                }
            }
            after = end;
        }
        return hi + 1;
    }

    /// <summary>Adds a run.</summary>
    public void Add(OrdinalRun run)
    {
        long from = Math.Max(run.From, Line + 1);
        if (from > run.To) return;
        if (from == Line + 1) MoveLine(run.To);
        else SetBits(from, run.To);
        if (!HasBlocks) return;
        long next = Next(Line, (blocks.Keys[^1] + 1L) * BlockSize, present: false) - 1;
        if (next > Line) MoveLine(next);
    }

    /// <summary>Removes a run.</summary>
    public void Remove(OrdinalRun run)
    {
        if (run.From <= Line)
        {
            long old = Line;
            Line = run.From - 1;
            LineChanged = true;
            if (run.To < old) SetBits(run.To + 1, old);
        }
        for (long ordinal = Math.Max(run.From, Line + 1); ordinal <= run.To;)
        {
            int block = BlockMap.BlockOf(ordinal);
            long last = Math.Min(run.To, (block + 1L) * BlockSize);
            if (blocks.Find(block) is not null)
            {
                var words = blocks.Own(block);
                for (long o = ordinal; o <= last; o++) words[(o - 1) % BlockSize / 64] &= ~(1UL << (int)((o - 1) & 63));
                if (words.AsSpan().IndexOfAnyExcept(0UL) < 0) blocks.Drop(block);
            }
            ordinal = last + 1;
        }
    }

    void MoveLine(long line)
    {
        Line = line;
        LineChanged = true;
        // A block that lies wholly at or below the line is redundant.
        while (HasBlocks && (blocks.Keys[0] + 1L) * BlockSize <= Line) blocks.Drop(blocks.Keys[0]);
    }

    void SetBits(long from, long to)
    {
        for (long ordinal = from; ordinal <= to;)
        {
            int block = BlockMap.BlockOf(ordinal);
            long last = Math.Min(to, (block + 1L) * BlockSize);
            if (ordinal == block * (long)BlockSize + 1 && last == (block + 1L) * BlockSize) Blocks.Fill(block);
            else
            {
                var words = Blocks.Own(block);
                for (long o = ordinal; o <= last; o++) words[(o - 1) % BlockSize / 64] |= 1UL << (int)((o - 1) & 63);
            }
            ordinal = last + 1;
        }
    }
}
