namespace Rovett.Client;

/// <summary>Notifications handed out whose acknowledgement the service has not confirmed yet.</summary>
sealed class Unconfirmed
{
    const int MostKnown = 4096;

    readonly Queue<(string Id, string Cursor)> order = new();
    readonly HashSet<string> ids = [];
    // Handed out here, whatever the service knows of it: a restored store sends again what it has forgotten.
    readonly HashSet<string> handedOut = [];
    readonly Queue<string> newest = new();
    string? before, last;

    /// <summary>The cursor before the first of them; null when there is none.</summary>
    public string? Before
    {
        get
        {
            lock (order) return order.Count > 0 ? before : null;
        }
    }

    /// <summary>They are being sent again: cursors that come now may lie before those that came.</summary>
    public bool IsRepeating { get; private set; }

    /// <summary>A connection begins after <see cref="Before"/>.</summary>
    public void Resumed()
    {
        lock (order) IsRepeating = order.Count > 0;
    }

    /// <summary>Takes note of a message that came.</summary>
    /// <returns>False when it was handed out before.</returns>
    public bool Came(string? kind, string? id, string? cursor)
    {
        lock (order)
        {
            if (kind == "current") IsRepeating = false;
            if (cursor is null) return true;
            if (id is null)
            {
                if (order.Count == 0) before = cursor;
                return true;
            }
            bool isNew = ids.Add(id);
            if (isNew) order.Enqueue((id, cursor));
            if (isNew || id == last) IsRepeating = false;
            if (isNew) last = id;
            return isNew && HandOut(id);
        }
    }

    bool HandOut(string id)
    {
        if (!handedOut.Add(id)) return false;
        newest.Enqueue(id);
        if (newest.Count > MostKnown) handedOut.Remove(newest.Dequeue());
        return true;
    }

    public void Confirmed(string cursor)
    {
        lock (order)
        {
            if (!order.Any(o => o.Cursor == cursor)) return; // a later one was confirmed before it
            before = cursor;
            while (order.TryDequeue(out var oldest))
            {
                ids.Remove(oldest.Id);
                if (oldest.Cursor == cursor) break;
            }
        }
    }
}
