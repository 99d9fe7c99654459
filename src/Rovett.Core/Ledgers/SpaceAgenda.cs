using Rovett.Core.Presence;
using Rovett.Core.Store;

namespace Rovett.Core.Ledgers;

/// <summary>What there is to do in a space by itself, known without asking the ledger or the store: by it a space where nothing is due
/// costs nothing. Written on the ledger's thread, read on any. What is not known yet counts as due.</summary>
public sealed class SpaceAgenda
{
    long nextDue, oldest, stored, servedSince;
    bool isErasing = true, isConnected;
    PresenceBoards? boards;

    /// <summary>Due work is looked for from this time on.</summary>
    public StoredTime NextDue => new(Volatile.Read(ref nextDue));

    /// <summary>When the oldest of what is stored was stored, or before that; the greatest time: nothing is.</summary>
    public StoredTime Oldest => new(Volatile.Read(ref oldest));

    /// <summary>Entries stored.</summary>
    public long Stored => Volatile.Read(ref stored);

    /// <summary>An erasure may be under way.</summary>
    public bool IsErasing { get => Volatile.Read(ref isErasing); internal set => Volatile.Write(ref isErasing, value); }

    /// <summary>Somebody is connected.</summary>
    public bool IsConnected { get => Volatile.Read(ref isConnected); internal set => Volatile.Write(ref isConnected, value); }

    /// <summary>Somebody watches who is there.</summary>
    public bool IsWatched => Volatile.Read(ref boards)?.IsWatched ?? false;

    internal void Watches(PresenceBoards of) => Volatile.Write(ref boards, of);

    /// <summary>Starts from what is stored.</summary>
    public void Load(AgendaRow row)
    {
        Volatile.Write(ref nextDue, row.NextDue?.Micros ?? long.MaxValue);
        Volatile.Write(ref oldest, row.Oldest?.Micros ?? long.MaxValue);
        Volatile.Write(ref stored, row.Stored);
        IsErasing = row.IsErasing;
        HasOutbound = row.HasOutbound;
    }

    /// <summary>Webhook calls or e-mails waited when it was loaded.</summary>
    public bool HasOutbound { get; private set; }

    /// <summary>Since when this process serves the space; the smallest time: since it started.</summary>
    public StoredTime ServedSince => new(Volatile.Read(ref servedSince));

    /// <summary>This process serves the space from now on; another did before, so all is looked at.</summary>
    public void Begins(StoredTime now)
    {
        Volatile.Write(ref servedSince, now.Micros);
        Forget();
    }

    /// <summary>Work was added that is due at a time.</summary>
    internal void Adds(StoredTime due)
    {
        if (due < NextDue) Volatile.Write(ref nextDue, due.Micros);
    }

    /// <summary>The earliest work that is left; null: none.</summary>
    internal void IsLeft(StoredTime? due) => Volatile.Write(ref nextDue, due?.Micros ?? long.MaxValue);

    /// <summary>Something was stored.</summary>
    /// <param name="time">When.</param>
    /// <param name="entries">How many entries are stored now.</param>
    internal void Stores(StoredTime time, long entries)
    {
        if (time < Oldest) Volatile.Write(ref oldest, time.Micros);
        Volatile.Write(ref stored, entries);
    }

    /// <summary>Some of what was stored was let go.</summary>
    /// <param name="left">When the oldest was stored that is left; null: nothing is.</param>
    /// <param name="entries">How many entries are left.</param>
    internal void Trimmed(StoredTime? left, long entries)
    {
        Volatile.Write(ref oldest, left?.Micros ?? long.MaxValue);
        Volatile.Write(ref stored, entries);
    }

    /// <summary>What was noted may be wrong: all is looked at.</summary>
    internal void Forget()
    {
        Volatile.Write(ref nextDue, 0);
        Volatile.Write(ref oldest, 0);
        IsErasing = true;
    }
}
