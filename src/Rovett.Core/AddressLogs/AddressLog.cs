using Rovett.Core.Addresses;
using Rovett.Core.Marks;

namespace Rovett.Core.AddressLogs;

/// <summary>The notifications of one audience or of one person, numbered 1, 2, 3 … Owned by the ledger; nothing else
/// changes it.</summary>
public sealed class AddressLog(long id, Audience? audience, Address[] addresses)
{
    const int RecentSize = 64;
    readonly (long Ordinal, long Position)[] recent = new (long, long)[RecentSize];
    int recentCount;

    /// <summary>The store's number of the log.</summary>
    public long Id { get; } = id;

    /// <summary>The audience, or null for a person's own log.</summary>
    public Audience? Audience { get; } = audience;

    /// <summary>The addresses by which it reaches people, in the fixed order; one for a person's own log.</summary>
    public IReadOnlyList<Address> Addresses { get; } = addresses;

    /// <summary>The same, as they stand in messages.</summary>
    public string[] Texts { get; } = [.. addresses.Select(a => a.ToString())];

    /// <summary>The newest ordinal; 0 when the log is empty.</summary>
    public long Head { get; private set; }

    /// <summary>The position of the newest notification; 0 when the log is empty.</summary>
    public long HeadPosition { get; private set; }

    /// <summary>Ordinals that nobody may see any more.</summary>
    public OrdinalSet Dead { get; } = new();

    /// <summary>The connected people whom a new notification in this log reaches.</summary>
    internal List<Ledger.Member> Members { get; } = [];

    /// <summary>Brings back the stored head.</summary>
    public void Load(long head, long headPosition) => (Head, HeadPosition) = (head, headPosition);

    /// <summary>Draws the next ordinal for the notification at <paramref name="position"/>.</summary>
    public long Append(long position)
    {
        Head++;
        HeadPosition = position;
        recent[recentCount++ % RecentSize] = (Head, position);
        return Head;
    }

    /// <summary>The notifications after <paramref name="position"/>, or false when memory does not reach back so far.</summary>
    internal bool TryRecent(long position, List<(AddressLog Log, long Ordinal, long Position)> into)
    {
        if (HeadPosition <= position) return true;
        int kept = Math.Min(recentCount, RecentSize);
        long known = Head - kept; // what is not in the ring
        if (kept == 0) return false;
        var oldest = recent[(recentCount - kept) % RecentSize];
        if (known > 0 && oldest.Position > position + 1) return false; // one that is not kept may lie after the position
        for (int i = 0; i < kept; i++)
        {
            var item = recent[(recentCount - kept + i) % RecentSize];
            if (item.Position > position) into.Add((this, item.Ordinal, item.Position));
        }
        return true;
    }
}
