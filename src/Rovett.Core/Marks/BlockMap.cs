using System.Buffers.Binary;
using System.Numerics;

namespace Rovett.Core.Marks;

/// <summary>Loads the stored blocks of a set when they are first needed.</summary>
public interface IBlockSource
{
    /// <summary>The blocks that are stored, lowest first, with how many ordinals each holds.</summary>
    IReadOnlyList<(int Block, int Count)> List();
    /// <summary>One of them: 512 bytes, little-endian words; empty means that every bit is set.</summary>
    byte[] Load(int block);
}

/// <summary>Bits by ordinal in blocks of 4,096, listed and loaded when they are first needed. Blocks that are full share
/// one array.</summary>
/// <param name="source">Where they are stored; null: nowhere.</param>
/// <param name="counted">Hears of stored blocks when they are listed, with their counts.</param>
sealed class BlockMap(IBlockSource? source, DeadSet? counted = null)
{
    public const int BlockSize = 4096;
    public const int WordsPerBlock = BlockSize / 64;
    public static readonly ulong[] Full = [.. Enumerable.Repeat(ulong.MaxValue, WordsPerBlock)];

    /// <summary>Shared by all sets that have no block: most marks are a line. Never written to.</summary>
    public static readonly BlockMap Nothing = new(null);

    SortedList<int, ulong[]?>? blocks;
    bool listed = source is null;

    /// <summary>The blocks whose bits changed since they were last stored.</summary>
    public HashSet<int>? Changed { get; set; }

    public static int BlockOf(long ordinal) => (int)((ordinal - 1) / BlockSize);

    /// <summary>Whether nothing is in any block; true without asking the store when it is known.</summary>
    public bool IsEmpty
    {
        get
        {
            EnsureListed();
            return blocks is null || blocks.Count == 0;
        }
    }

    /// <summary>The blocks there are, lowest first.</summary>
    public IList<int> Keys
    {
        get
        {
            EnsureListed();
            return blocks is null ? [] : blocks.Keys;
        }
    }

    /// <summary>The words of a block, or null when it is empty.</summary>
    public ulong[]? Find(int block)
    {
        EnsureListed();
        if (blocks is null || !blocks.TryGetValue(block, out var words)) return null;
        return words ?? (blocks[block] = Read(source!.Load(block)));
    }

    /// <summary>The words of a block to write to, made when there are none.</summary>
    public ulong[] Own(int block)
    {
        var words = Find(block);
        if (words is null || ReferenceEquals(words, Full))
        {
            (blocks ??= [])[block] = words = words is null ? new ulong[WordsPerBlock] : [.. Full];
        }
        (Changed ??= []).Add(block);
        return words;
    }

    public void Fill(int block)
    {
        EnsureListed();
        (blocks ??= [])[block] = Full;
        (Changed ??= []).Add(block);
    }

    public void Drop(int block)
    {
        EnsureListed();
        if (blocks?.Remove(block) == true) (Changed ??= []).Add(block);
    }

    /// <summary>The stored form of a block, with its count; null when it holds nothing.</summary>
    public (byte[] Bits, int Count)? Stored(int block)
    {
        if (Find(block) is not { } words) return null;
        int count = Population(words);
        if (count == BlockSize) return ([], count);
        if (count == 0) return null;
        var bits = new byte[BlockSize / 8];
        for (int i = 0; i < words.Length; i++) BinaryPrimitives.WriteUInt64LittleEndian(bits.AsSpan(i * 8), words[i]);
        return (bits, count);
    }

    public static int Population(ReadOnlySpan<ulong> words)
    {
        int count = 0;
        foreach (ulong word in words) count += BitOperations.PopCount(word);
        return count;
    }

    static ulong[] Read(ReadOnlySpan<byte> bits)
    {
        if (bits.Length == 0) return Full;
        var words = new ulong[WordsPerBlock];
        for (int i = 0; i < words.Length; i++) words[i] = BinaryPrimitives.ReadUInt64LittleEndian(bits[(i * 8)..]);
        return words;
    }

    void EnsureListed()
    {
        if (listed) return;
        listed = true;
        foreach (var (block, count) in source!.List())
        {
            (blocks ??= []).Add(block, null);
            counted?.Add(block, count);
        }
    }
}
