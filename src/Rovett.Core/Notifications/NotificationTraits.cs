using System.Buffers.Binary;
using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;

namespace Rovett.Core.Notifications;

/// <summary>The members of a notification that the service acts on.</summary>
/// <param name="Type">Its type.</param>
/// <param name="Subject">The subject it is about, or null.</param>
/// <param name="Receipts">The detail in which receipts are kept.</param>
/// <param name="TakeFor">It may be taken, for so long; null: not. <see cref="TimeSpan.Zero"/>: until it is released.</param>
public sealed record NotificationTraits(string Type, string? Subject, ReceiptLevel Receipts, TimeSpan? TakeFor)
{
    /// <summary>People are always told of it: mutes and quiet hours don't apply. Not stored with the entry, whose
    /// content says so.</summary>
    public bool IsAlways { get; init; }

    /// <summary>For entries other than notifications.</summary>
    public static readonly NotificationTraits None = new("", null, ReceiptLevel.None, null);

    const int MostTypes = 4096;
    static readonly ConcurrentDictionary<string, long> types = new();
    static int kept;

    /// <summary>The type as the store finds it: negative where people are always told.</summary>
    internal long TypeHash
    {
        get
        {
            if (!types.TryGetValue(Type, out long hash))
            {
                hash = HashOf(Type);
                // Types are few, and sent again and again.
                if (Volatile.Read(ref kept) < MostTypes && types.TryAdd(Type, hash)) Interlocked.Increment(ref kept);
            }
            return IsAlways ? -hash : hash;
        }
    }

    /// <summary>A text as 63 bits, by which the store finds what is about a subject or of a type.</summary>
    public static long HashOf(string text) =>
        BinaryPrimitives.ReadInt64BigEndian(SHA256.HashData(Encoding.UTF8.GetBytes(text))) & long.MaxValue;
}
