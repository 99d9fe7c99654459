using System.Text;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Visibility;

namespace Rovett.Simulator;

/// <summary>The judgement: what the real parts say beside what the reference says.</summary>
public sealed partial class World
{
    /// <summary>Totals, by address too, and the whole inbox of a user.</summary>
    void CheckUser(string user)
    {
        if (store.FailCommit || store.WritesUntilFault >= 0) return;
        var command = new PlanCommand("main", user);
        ledger.Process([command]);
        if (command.Task.IsFaulted) throw Wrong($"the plan of {user} failed: {command.Task.Exception!.InnerException}");
        if (command.Task.Result is not { } plan)
        {
            if (reference.Visible(user).Any()) throw Wrong($"{user} is unknown, and yet sees something");
            return;
        }
        long unread = reference.Unread(user);
        if (plan.Totals.Totals.Unread != unread)
        {
            CheckInbox(user, plan, InboxStateOf(1), s => reference.IsUnread(user, s));
            throw Wrong($"{user}: {plan.Totals.Totals.Unread} unread ({string.Join(' ', plan.Totals.By)}), the reference says {unread} (" +
                $"{string.Join(' ', reference.Visible(user).Where(s => reference.IsUnread(user, s)).GroupBy(s => reference.Reaches(user, s)!).Select(g => $"[{g.Key}, {g.Count()}]"))})");
        }
        if (plan.Totals.By.Sum(b => b.Value) != unread)
        {
            throw Wrong($"{user}: the parts of the total make {plan.Totals.By.Sum(b => b.Value)}, not {unread}");
        }
        var by = reference.Visible(user).Where(s => reference.IsUnread(user, s)).GroupBy(s => reference.Reaches(user, s)!)
            .ToDictionary(g => g.Key, g => (long)g.Count());
        foreach (var (address, count) in plan.Totals.By)
        {
            if (by.GetValueOrDefault(address) != count)
            {
                throw Wrong($"{user}: {count} unread by {address}, the reference says {by.GetValueOrDefault(address)}");
            }
        }
        CheckInbox(user, plan, InboxStateOf(0), _ => true);
        CheckInbox(user, plan, InboxStateOf(1), s => reference.IsUnread(user, s));
        CheckInbox(user, plan, InboxStateOf(2), s => reference.Of(user).Read.Contains(s.Number));
        if (new InboxReader(history).UnreadByType(plan).Values.Sum() != unread)
        {
            throw Wrong($"{user}: the totals by type make {new InboxReader(history).UnreadByType(plan).Values.Sum()}, not {unread}");
        }
        long about = reference.Visible(user).Count(s => s.Subject == Subjects[0] && reference.IsUnread(user, s));
        if (new InboxReader(history).UnreadAbout(plan, Subjects[0]) != about)
        {
            throw Wrong($"{user}: {new InboxReader(history).UnreadAbout(plan, Subjects[0])} unread about {Subjects[0]}, the reference " +
                $"says {about}");
        }
    }

    static InboxState InboxStateOf(int which) => (InboxState)which;

    void CheckInbox(string user, ReadPlan plan, InboxState state, Func<Reference.Sent, bool> wanted)
    {
        var person = reference.Of(user);
        var expected = reference.Visible(user).Where(wanted)
            .Select(s =>
            (s.Position, Address: reference.Reaches(user, s)!, Read: person.Read.Contains(s.Number),
            Received: person.Received.Contains(s.Number), Muted: reference.IsMuted(user, s), Mine: s.TakenBy == user))
            .OrderByDescending(s => s.Position).ToList();
        var found = new List<(long Position, string Address, bool Read, bool Received, bool Muted, bool Mine)>();
        for (long before = long.MaxValue; ;)
        {
            var page = new InboxReader(history).Page(plan, before, 7, state);
            found.AddRange(
                page.Items.Select(i => (i.Entry.Position.Value, i.Address, i.Read is not null, i.Received is not null, i.Muted, i.Taken)));
            if (!page.More) break;
            before = found[^1].Position;
        }
        if (found.SequenceEqual(expected)) return;
        var missing = expected.Except(found).Take(3);
        var extra = found.Except(expected).Take(3);
        throw Wrong($"{user}'s inbox ({state}): {found.Count} items, the reference says {expected.Count}; missing " +
            $"{string.Join(" ", missing)}; too much {string.Join(" ", extra)}; the reference: " +
            $"{string.Join(" ", extra.Concat(missing).Select(e => reference.All.Find(s => s.Position == e.Position)).OfType<Reference.Sent>().Select(s => $"[{s.Number} read {person.Read.Contains(s.Number)} muted {reference.IsMuted(user, s)} attended {string.Join(',', AttendingNow(s.Subject))}]"))}");
    }

    /// <summary>No entry from before an erasure names the person.</summary>
    void CheckErased()
    {
        if (disk.Erasures(1) is { Count: > 0 } left) throw Wrong($"an erasure does not come to an end: {left[0]}");
        foreach (var (user, upTo) in reference.ErasedAt)
        {
            for (long position = reference.Floor + 1; position <= upTo; position++)
            {
                if (disk.FindEntry(1, position) is { } entry
                    && (entry.Addressing.Lines.Split('\n').Any(line => line.EndsWith("user:" + user, StringComparison.Ordinal))
                    || Encoding.UTF8.GetString(entry.Body).Contains($"\"{user}\"", StringComparison.Ordinal)))
                    throw Wrong($"the entry at {position} names {user}, who was erased at {upTo}: {entry.Addressing.Lines} " +
                        $"{Encoding.UTF8.GetString(entry.Body)}");
            }
        }
    }

    void CheckEverything()
    {
        foreach (var user in Users) CheckUser(user);
        foreach (var device in devices) device.CheckAtPeace();
        foreach (var sent in reference.All.Where(s => s.Position > reference.Floor))
        {
            if (disk.FindEntry(1, sent.Position) is not { } entry) throw Wrong($"the entry at {sent.Position} is gone");
            var people = history.People(entry.Placements);
            long read = sent.ErasedRead + Users.Count(u => reference.Of(u).Read.Contains(sent.Number)),
                received = sent.ErasedReceived + Users.Count(u => reference.Of(u).Received.Contains(sent.Number));
            if (people.Read != read || people.Received != received)
            {
                throw Wrong(
                    $"receipts of {sent.Number}: {people.Received} received, {people.Read} read; the reference says {received} and {read}");
            }
        }
        CheckErased();
        var wrong = history.Check();
        if (wrong.Count > 0) throw Wrong(string.Join("; ", wrong));
        long head = disk.FindSpace("main")!.Head;
        if (head != reference.Head) throw Wrong($"the head is {head}, the reference says {reference.Head}");
    }
}
