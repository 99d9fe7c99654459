using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;

namespace Rovett.Core.Notifications;

/// <summary>What the service must know of a notification beside its text.</summary>
/// <param name="Type">Its type.</param>
/// <param name="Subject">What it is about, or null.</param>
/// <param name="Receipts">What is kept of its receipts.</param>
/// <param name="TakeFor">It may be taken, for so long; null: not. <see cref="TimeSpan.Zero"/>: until it is released.</param>
public sealed record NotificationTraits(string Type, string? Subject, ReceiptLevel Receipts, TimeSpan? TakeFor)
{
    /// <summary>Those of an entry that is no notification.</summary>
    public static readonly NotificationTraits None = new("", null, ReceiptLevel.None, null);

    /// <summary>A text as 63 bits, by which the store finds what is about a subject or of a type.</summary>
    public static long HashOf(string text) =>
        BinaryPrimitives.ReadInt64BigEndian(SHA256.HashData(Encoding.UTF8.GetBytes(text))) & long.MaxValue;
}
