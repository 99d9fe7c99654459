using System.Buffers;
using System.Buffers.Binary;
using System.Buffers.Text;
using System.Security.Cryptography;
using System.Text;

namespace Rovett.Core.Wire;

/// <summary>Seals positions so that users may hold them: one AES block of the position and a tag of space, epoch and
/// purpose. Fixed length, the same text for everybody, readable and forgeable (2⁻⁶⁴ a try) by nobody.</summary>
public sealed class CursorSeal : IDisposable
{
    /// <summary>Characters of a sealed position.</summary>
    public const int Length = 22;

    // Made once, when first needed: making one costs ten times as much as a block. Each is used under its own lock.
    readonly Lock sealGate = new(), openGate = new();
    ICryptoTransform? sealing, opening;
    readonly byte[] key;
    readonly byte[] plain = new byte[16], sealedBlock = new byte[16], given = new byte[16], opened = new byte[16];
    readonly ulong tag;

    /// <summary>Makes the seal of one purpose.</summary>
    /// <param name="key">The space's key, 32 bytes.</param>
    /// <param name="epoch">The store's present life.</param>
    /// <param name="space">The space's name.</param>
    /// <param name="purpose"><c>cursor</c> or <c>page</c>; what is sealed for one is foreign to the other.</param>
    public CursorSeal(byte[] key, Epoch epoch, string space, string purpose)
    {
        var digest = HMACSHA256.HashData(key, Encoding.UTF8.GetBytes($"{purpose}\n{epoch}\n{space}"));
        tag = BinaryPrimitives.ReadUInt64BigEndian(digest);
        this.key = HMACSHA256.HashData(key, Encoding.UTF8.GetBytes($"seal\n{purpose}"));
    }

    /// <summary>Identifies the space in the present life of the store: positions mean the same wherever this is the same.</summary>
    public ulong Life => tag;

    ICryptoTransform Cipher(bool seals)
    {
        using var aes = Aes.Create();
        (aes.Mode, aes.Padding, aes.Key) = (CipherMode.ECB, PaddingMode.None, key);
        return seals ? aes.CreateEncryptor() : aes.CreateDecryptor();
    }

    /// <summary>The text for a position.</summary>
    public string Seal(Position position)
    {
        lock (sealGate)
        {
            WriteBlock(plain, position.Value);
            (sealing ??= Cipher(true)).TransformBlock(plain, 0, 16, sealedBlock, 0);
            return Base64Url.EncodeToString(sealedBlock);
        }
    }

    /// <summary>The texts for positions, at once.</summary>
    public string[] Seal(ReadOnlySpan<long> positions)
    {
        if (positions.IsEmpty) return [];
        var blocks = new byte[positions.Length * 16];
        for (int i = 0; i < positions.Length; i++)
        {
            WriteBlock(blocks.AsSpan(i * 16), positions[i]);
        }
        lock (sealGate) (sealing ??= Cipher(true)).TransformBlock(blocks, 0, blocks.Length, blocks, 0);
        var texts = new string[positions.Length];
        for (int i = 0; i < texts.Length; i++) texts[i] = Base64Url.EncodeToString(blocks.AsSpan(i * 16, 16));
        return texts;
    }

    void WriteBlock(Span<byte> block, long position)
    {
        BinaryPrimitives.WriteInt64BigEndian(block, position);
        BinaryPrimitives.WriteUInt64BigEndian(block[8..], tag);
    }

    /// <summary>Reads the position back; it is set only when the answer is <see cref="CursorState.Valid"/>.</summary>
    public CursorState Open(ReadOnlySpan<char> text, out Position position)
    {
        position = default;
        Span<byte> block = stackalloc byte[16];
        if (text.Length != Length || Base64Url.DecodeFromChars(text, block, out _, out int written) != OperationStatus.Done
            || written != 16)
        {
            return CursorState.Malformed;
        }
        long value;
        lock (openGate)
        {
            block.CopyTo(given);
            (opening ??= Cipher(false)).TransformBlock(given, 0, 16, opened, 0);
            if (BinaryPrimitives.ReadUInt64BigEndian(opened.AsSpan(8)) != tag) return CursorState.Foreign;
            value = BinaryPrimitives.ReadInt64BigEndian(opened);
        }
        if (value < 0) return CursorState.Foreign;
        position = new Position(value);
        return CursorState.Valid;
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        lock (sealGate) sealing?.Dispose();
        lock (openGate) opening?.Dispose();
    }
}
