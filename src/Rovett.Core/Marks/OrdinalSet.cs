using System.Numerics;

namespace Rovett.Core.Marks;

/// <summary>A run of ordinals, both ends included.</summary>
public readonly record struct OrdinalRun(long From, long To)
{
    /// <summary>How many ordinals it holds.</summary>
    public long Count => To - From + 1;
}

/// <summary>A set of ordinals (1, 2, 3 …) of one log, made for marks: everything up to <see cref="Line"/>, and bitmap
/// blocks of 4,096 above it. Its size is bounded by the log's, whatever a client does.</summary>
public sealed class OrdinalSet
{
    /// <summary>Ordinals in one block.</summary>
    public const int BlockSize = 4096;
    const int WordsPerBlock = BlockSize / 64;
    static readonly ulong[] Full = [.. Enumerable.Repeat(ulong.MaxValue, WordsPerBlock)];

    SortedList<int, ulong[]>? blocks;

    /// <summary>Every ordinal from 1 to this one is in the set.</summary>
    public long Line { get; private set; }

    /// <summary>True when nothing is in the set.</summary>
    public bool IsEmpty => Line == 0 && (blocks is null || blocks.Count == 0);

    /// <summary>The blocks whose bits changed since <see cref="ClearChanges"/>, for the store.</summary>
    public HashSet<int>? ChangedBlocks { get; private set; }

    /// <summary>True when the line moved since <see cref="ClearChanges"/>.</summary>
    public bool LineChanged { get; private set; }

    /// <summary>Forgets what changed: it is stored.</summary>
    public void ClearChanges()
    {
        ChangedBlocks = null;
        LineChanged = false;
    }

    /// <summary>Brings back a stored line.</summary>
    public void LoadLine(long line) => Line = line;

    /// <summary>Brings back a stored block: 512 bytes, little-endian words; empty means every bit set.</summary>
    public void LoadBlock(int block, ReadOnlySpan<byte> bits)
    {
        if (bits.Length == 0)
        {
            (blocks ??= [])[block] = Full;
            return;
        }
        var words = new ulong[WordsPerBlock];
        for (int i = 0; i < words.Length; i++) words[i] = System.Buffers.Binary.BinaryPrimitives.ReadUInt64LittleEndian(bits[(i * 8)..]);
        (blocks ??= [])[block] = words;
    }

    /// <summary>The stored form of a block, or null when it holds nothing above the line.</summary>
    public byte[]? StoredBlock(int block)
    {
        if (blocks is null || !blocks.TryGetValue(block, out var words)) return null;
        if (words.AsSpan().IndexOfAnyExcept(ulong.MaxValue) < 0) return [];
        var bits = new byte[BlockSize / 8];
        for (int i = 0; i < words.Length; i++) System.Buffers.Binary.BinaryPrimitives.WriteUInt64LittleEndian(bits.AsSpan(i * 8), words[i]);
        return bits;
    }

    /// <summary>Whether an ordinal is in the set.</summary>
    public bool Contains(long ordinal)
    {
        if (ordinal <= Line) return true;
        long bit = ordinal - 1;
        return blocks is not null && blocks.TryGetValue((int)(bit / BlockSize), out var words)
            && (words[bit % BlockSize / 64] >> (int)(bit & 63) & 1) != 0;
    }

    /// <summary>The 64 ordinals from <c>64·index + 1</c> on, as bits.</summary>
    ulong Word(long index)
    {
        long first = index * 64;
        if (first + 64 <= Line) return ulong.MaxValue;
        ulong word = Line > first ? (1UL << (int)(Line - first)) - 1 : 0;
        if (blocks is not null && blocks.TryGetValue((int)(first / BlockSize), out var words)) word |= words[first % BlockSize / 64];
        return word;
    }

    /// <summary>How many ordinals of (<paramref name="lo"/>, <paramref name="hi"/>] are in none of the sets.</summary>
    public static long CountInNone(long lo, long hi, OrdinalSet a, OrdinalSet b, OrdinalSet c)
    {
        if (a.Line > lo) lo = a.Line;
        if (b.Line > lo) lo = b.Line;
        if (hi <= lo) return 0;
        if (a.blocks is null && b.IsEmpty && c.IsEmpty) return hi - lo;
        long count = 0;
        for (long w = lo / 64; w <= (hi - 1) / 64; w++)
        {
            ulong free = ~(a.Word(w) | b.Word(w) | c.Word(w)) & Mask(w, lo, hi);
            count += BitOperations.PopCount(free);
        }
        return count;
    }

    /// <summary>The bits of word <paramref name="w"/> that lie in (<paramref name="lo"/>, <paramref name="hi"/>].</summary>
    static ulong Mask(long w, long lo, long hi)
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
        for (long w = after / 64; w * 64 < hi; w++)
        {
            ulong word = present ? Word(w) : ~Word(w);
            word &= Mask(w, after, hi);
            if (word != 0) return w * 64 + BitOperations.TrailingZeroCount(word) + 1;
        }
        return hi + 1;
    }

    /// <summary>Puts a run into the set.</summary>
    public void Add(OrdinalRun run)
    {
        long from = Math.Max(run.From, Line + 1);
        if (from > run.To) return;
        if (from == Line + 1) MoveLine(run.To);
        else SetBits(from, run.To);
        long next = Next(Line, long.MaxValue - 64, present: false) - 1;
        if (next > Line) MoveLine(next);
    }

    /// <summary>Takes a run out of the set.</summary>
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
            int block = (int)((ordinal - 1) / BlockSize);
            long last = Math.Min(run.To, (block + 1L) * BlockSize);
            if (blocks is not null && blocks.ContainsKey(block))
            {
                var words = Own(block);
                for (long o = ordinal; o <= last; o++) words[(o - 1) % BlockSize / 64] &= ~(1UL << (int)((o - 1) & 63));
                Changed(block);
            }
            ordinal = last + 1;
        }
    }

    /// <summary>A copy that later changes do not touch.</summary>
    public OrdinalSet Clone()
    {
        var copy = new OrdinalSet { Line = Line };
        if (blocks is not null)
        {
            copy.blocks = new SortedList<int, ulong[]>(blocks.Count);
            foreach (var (block, words) in blocks) copy.blocks.Add(block, ReferenceEquals(words, Full) ? Full : [.. words]);
        }
        return copy;
    }

    void MoveLine(long line)
    {
        Line = line;
        LineChanged = true;
        if (blocks is null) return;
        // A block that lies wholly at or below the line says nothing any more.
        while (blocks.Count > 0 && (blocks.Keys[0] + 1L) * BlockSize <= Line)
        {
            Changed(blocks.Keys[0]);
            blocks.RemoveAt(0);
        }
    }

    void SetBits(long from, long to)
    {
        for (long ordinal = from; ordinal <= to;)
        {
            int block = (int)((ordinal - 1) / BlockSize);
            long last = Math.Min(to, (block + 1L) * BlockSize);
            if (ordinal == block * (long)BlockSize + 1 && last == (block + 1L) * BlockSize) (blocks ??= [])[block] = Full;
            else
            {
                var words = Own(block);
                for (long o = ordinal; o <= last; o++) words[(o - 1) % BlockSize / 64] |= 1UL << (int)((o - 1) & 63);
            }
            Changed(block);
            ordinal = last + 1;
        }
    }

    ulong[] Own(int block)
    {
        blocks ??= [];
        if (!blocks.TryGetValue(block, out var words)) return blocks[block] = new ulong[WordsPerBlock];
        if (ReferenceEquals(words, Full)) blocks[block] = words = [.. Full];
        return words;
    }

    void Changed(int block) => (ChangedBlocks ??= []).Add(block);
}
