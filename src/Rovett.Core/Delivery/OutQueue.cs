using Rovett.Core.Wire;
using Rovett.Core.Wire.Sse;
using Rovett.Core.Wire.WebSockets;

namespace Rovett.Core.Delivery;

/// <summary>The output queue of one session. Messages of one commit may be held back until all of them are there, to leave in one write;
/// nothing overtakes them. Guarded by its session.</summary>
sealed class OutQueue(TransportKind transport)
{
    /// <summary>A queued ephemeral message: replaced by a newer one with the same key.</summary>
    sealed class Passing(string key, ControlMessage message)
    {
        public readonly string Key = key;
        public ControlMessage Message = message;
    }

    /// <summary>An <see cref="EntryRun"/>'s numbers from <see cref="From"/> to before <see cref="To"/>; or a <see cref="ControlMessage"/>,
    /// whose <see cref="Rev"/> is the position of the last entry before it, framed bytes, or a <see cref="Passing"/>.</summary>
    record struct Item(object What, int From, int To, long Rev, long Unread)
    {
        public readonly EntryRun? Run => What as EntryRun;
    }

    readonly Ring<Item> items = new();
    Dictionary<string, Passing>? passing;
    List<Item>? answersTaken; // last
    long? messageTaken; // position before the first message of the batch taken last; answers do not count
    int free; // of the items, those that may be written

    /// <summary>Queued messages, a run counting as one.</summary>
    public int Count => items.Count;

    /// <summary>Whether there is something that may be written.</summary>
    public bool CanWrite => free > 0;

    /// <summary>Queued entries.</summary>
    public int Entries { get; private set; }

    /// <summary>Puts messages before everything else.</summary>
    /// <param name="words">The messages.</param>
    /// <param name="after">The position of the last entry before them.</param>
    public void Begin(IReadOnlyList<ControlMessage> words, long after)
    {
        for (int i = words.Count - 1; i >= 0; i--) items.Prepend(new Item(words[i], 0, 0, after, 0));
        free += words.Count;
    }

    /// <summary>Queues entries.</summary>
    /// <param name="run">The run.</param>
    /// <param name="count">How many of it, from its first on.</param>
    /// <param name="rev">The number of the user's own changes.</param>
    /// <param name="unread">The user's unread total after the first; each that follows is one more where they count.</param>
    /// <param name="waits">Whether they wait for the rest of their commit.</param>
    public void Add(EntryRun run, int count, long rev, long unread, bool waits)
    {
        Entries += count;
        Add(new Item(run, 0, count, rev, unread), waits);
    }

    /// <summary>Queues a message.</summary>
    /// <param name="message">The message.</param>
    /// <param name="after">The position of the last entry before it.</param>
    /// <param name="waits">Whether it waits for the rest of its commit.</param>
    public void Add(ControlMessage message, long after, bool waits) => Add(new Item(message, 0, 0, after, 0), waits);

    /// <summary>Queues framed bytes.</summary>
    public void Add(byte[] framed) => Add(new Item(framed, 0, 0, 0, 0), waits: false);

    void Add(in Item item, bool waits)
    {
        if (!waits && free == items.Count) free++;
        items.Enqueue(item);
    }

    /// <summary>Queues an ephemeral message, unless too many are queued.</summary>
    /// <returns>False when it was left out.</returns>
    public bool AddPassing(string key, ControlMessage message, int most)
    {
        passing ??= [];
        if (passing.TryGetValue(key, out var waiting)) waiting.Message = message;
        else if (passing.Count < most)
        {
            passing[key] = waiting = new Passing(key, message);
            Add(new Item(waiting, 0, 0, 0, 0), waits: true);
        }
        else return false;
        return true;
    }

    /// <summary>The commit is complete: everything may be written.</summary>
    public void Release() => free = items.Count;

    /// <summary>Removes entries and presence messages that are no longer allowed.</summary>
    /// <returns>The positions of the entries.</returns>
    public HashSet<long> Drop(Sight sight)
    {
        var dropped = new HashSet<long>();
        int freeBefore = free, seen = 0;
        free = Entries = 0;
        foreach (var item in items.TakeAll())
        {
            bool mayLeave = seen++ < freeBefore;
            if (item.Run is not { } run)
            {
                var waiting = item.What as Passing;
                if ((waiting?.Message ?? item.What as ControlMessage)?.Shows is { } shown && !sight.MayShow(shown))
                {
                    if (waiting is not null) passing!.Remove(waiting.Key);
                    continue;
                }
                items.Enqueue(item);
                if (mayLeave) free++;
                continue;
            }
            var pieces = SentLog.Pieces(item.From, item.To, i =>
            {
                bool stays = sight.Allows(run.Place.Log, run.Place.Ordinal + i);
                if (!stays) dropped.Add(run.Place.Position + i);
                return stays;
            });
            foreach (var (from, to) in pieces)
            {
                items.Enqueue(item with { From = from, To = to });
                Entries += to - from;
                if (mayLeave) free++;
            }
        }
        return dropped;
    }

    /// <summary>The queued entries, in order.</summary>
    public IEnumerable<(EntryRun Run, int From, int To)> Runs()
    {
        for (int i = 0; i < items.Count; i++)
        {
            if (items[i] is { Run: { } run } item) yield return (run, item.From, item.To);
        }
    }

    /// <summary>The position of the last entry before the first queued message that is no answer; null: there is none.</summary>
    /// <param name="andTaken">Also among what was taken last.</param>
    public long? BeforeMessages(bool andTaken)
    {
        if (andTaken && messageTaken is { } before) return before;
        for (int i = 0; i < items.Count; i++)
        {
            if (items[i].What is ControlMessage && !IsAnswer(items[i])) return items[i].Rev;
        }
        return null;
    }

    /// <summary>Takes over what is written only once: answers to the device, and bytes that are framed already.</summary>
    /// <param name="from">The queue that they are in.</param>
    /// <param name="andTaken">Also those that were taken from it last.</param>
    public void TakeAnswers(OutQueue from, bool andTaken)
    {
        foreach (var answer in andTaken ? from.answersTaken ?? [] : []) Add(answer, waits: false);
        for (int i = 0; i < from.items.Count; i++)
        {
            if (IsAnswer(from.items[i])) Add(from.items[i], waits: false);
        }
    }

    static bool IsAnswer(in Item item) => item.What is byte[] or ControlMessage { Kind: "done" or "refused" };

    /// <summary>Clears the queue.</summary>
    public void Clear()
    {
        items.Clear();
        passing?.Clear();
        free = Entries = 0;
    }

    /// <summary>Takes bytes to write, as many whole messages as fit.</summary>
    /// <param name="into">Where they go.</param>
    /// <param name="large">A message longer than the buffer, alone.</param>
    /// <param name="taken">The entries among them.</param>
    /// <param name="others">How many others there were.</param>
    /// <returns>Bytes put into <paramref name="into"/>.</returns>
    public int Drain(Span<byte> into, out byte[]? large, List<(EntryRun Run, int From, int To)> taken, out int others)
    {
        large = null;
        others = 0;
        answersTaken?.Clear();
        messageTaken = null;
        int written = 0;
        while (free > 0 && large is null)
        {
            ref var item = ref items[0];
            if (item.Run is { } run)
            {
                int from = item.From;
                while (item.From < item.To && large is null)
                {
                    var wire = run.Wires[item.From];
                    int length = wire.Length(transport);
                    var target = into[written..];
                    if (length > target.Length)
                    {
                        if (written > 0) break;
                        target = large = new byte[length];
                    }
                    else written += length;
                    wire.Write(transport, item.Rev, run.Counts ? item.Unread + item.From : item.Unread, target);
                    item.From++;
                }
                Entries -= item.From - from;
                if (item.From > from) taken.Add((run, from, item.From));
                if (item.From < item.To) break;
            }
            else
            {
                var bytes = item.What as byte[] ?? Encode(item.What as ControlMessage ?? ((Passing)item.What).Message);
                if (bytes.Length > into.Length - written)
                {
                    if (written > 0) break;
                    large = bytes;
                }
                else
                {
                    bytes.CopyTo(into[written..]);
                    written += bytes.Length;
                }
                if (item.What is Passing gone) passing!.Remove(gone.Key);
                else if (IsAnswer(item)) (answersTaken ??= []).Add(item);
                else messageTaken ??= item.Rev;
                others++;
            }
            items.Dequeue();
            free--;
        }
        return written;
    }

    byte[] Encode(ControlMessage message) => transport switch
    {
        TransportKind.WebSocket => FrameWriter.Text(message.Json),
        TransportKind.Sse => SseWriter.Event(message.Kind, message.Cursor, message.Json),
        _ => LongPoll.Member(message.Json),
    };
}
