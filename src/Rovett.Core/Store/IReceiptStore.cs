namespace Rovett.Core.Store;

/// <summary>Receipts. Part of <see cref="ILedgerStore"/>.</summary>
public interface IReceiptStore
{
    /// <summary>The number of the newest receipt; 0 when there is none.</summary>
    long LastReceipt(int space);
    /// <summary>Writes a receipt.</summary>
    void AppendReceipt(int space, ReceiptRow receipt);
    /// <summary>Gives a receipt another detail.</summary>
    void RewriteReceipt(int space, long number, string detail);
    /// <summary>When the oldest receipt was written; null: there is none.</summary>
    StoredTime? OldestReceipt(int space);
    /// <summary>Removes receipts older than a time, at most a number of them.</summary>
    /// <returns>How many went.</returns>
    int TrimReceipts(int space, StoredTime before, int limit);
    /// <summary>The details of receipts in numbers (<paramref name="after"/>, <paramref name="upTo"/>] that have any.</summary>
    IReadOnlyList<(long Number, string Detail)> ReceiptDetails(int space, long after, long upTo);
}
