using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Visibility;

namespace Rovett.Core.Ledgers;

/// <summary>Applies marks to one log of one user: the sets, the count, the runs with time and device, the receipts.</summary>
static class MarkOperation
{
    /// <summary>A receipt tells of no more notifications than this, so that readers of receipts read a bounded number.</summary>
    const int MaxReceiptRun = 256;

    /// <summary>Marks parts (lo, hi] of a log.</summary>
    /// <param name="wereSent">An ack: whatever it names was sent, even if it is dead by now. Otherwise only what the
    /// user may see is meant.</param>
    /// <returns>The change of the user's unread total, and whether any mark by the person changed.</returns>
    public static (long Delta, bool Changed) Apply(Ledger ledger, SpaceState state, UserState user, UserLog log,
        IReadOnlyList<(long Lo, long Hi)> parts, MarkVerb verb, string device, StoredTime now, bool wereSent = false)
    {
        bool counts = verb is MarkVerb.Read or MarkVerb.Unread; // an ack changes no total
        long before = counts ? log.Unread() : 0, delta = 0;
        var one = new Marker(ledger, state, user, log, device, now, wereSent);
        foreach (var (lo, hi) in parts)
        {
            long unread = counts ? Countable(log, lo, hi) : 0;
            if (verb == MarkVerb.Unread) one.Clear(lo, hi);
            else
            {
                if (verb == MarkVerb.Read) one.Set(log.Read, MarkKind.Read, ReceiptState.Read, lo, hi);
                one.Set(log.Received, MarkKind.Received, ReceiptState.Received, lo, hi);
                if (verb == MarkVerb.Handled) one.Set(log.Handled, MarkKind.Handled, ReceiptState.Handled, lo, hi);
            }
            if (counts) delta += Countable(log, lo, hi) - unread;
        }
        if (counts) log.SetUnread(before + delta);
        log.Save(ledger.Store, user.PersonId);
        return (delta, one.ReadChanged);
    }

    /// <summary>The unread ordinals in (lo, hi], the user's own takings included.</summary>
    static long Countable(UserLog log, long lo, long hi) => log.CountUnread(lo, hi) + log.MineUnreadIn(new Segment(lo, hi, 0));

    sealed class Marker(Ledger ledger, SpaceState state, UserState user, UserLog log, string device, StoredTime now, bool wereSent)
    {
        readonly List<OrdinalRun> runs = [], rest = [];

        public bool ReadChanged { get; private set; }

        public void Set(OrdinalSet marks, MarkKind kind, ReceiptState said, long lo, long hi)
        {
            runs.Clear();
            marks.Runs(lo, hi, present: false, runs);
            if (!wereSent) LeaveTaken(); // they may come back, and then are new to this user
            foreach (var run in runs)
            {
                // The set stays compact by covering what is dead for good and what the user is left out of; receipts speak
                // only of what was the user's.
                marks.Add(run);
                rest.Clear();
                log.Skips.Runs(run.From - 1, run.To, present: false, rest);
                if (!wereSent) LeaveDead();
                foreach (var part in rest) Note(part, kind, said, 1);
            }
        }

        public void Clear(long lo, long hi)
        {
            rest.Clear();
            log.Read.Runs(lo, hi, present: true, rest);
            LeaveDead();
            foreach (var run in rest)
            {
                log.Read.Remove(run);
                ledger.Store.ClearRun(user.PersonId, log.Log.Id, MarkKind.Read, run);
                runs.Clear();
                log.Skips.Runs(run.From - 1, run.To, present: false, runs);
                foreach (var part in runs) Note(part, MarkKind.Read, ReceiptState.UnreadAgain, -1);
            }
        }

        /// <summary>Takes out of the runs what others have taken.</summary>
        void LeaveTaken()
        {
            var taken = state.TakenOf(log.Log);
            if (taken.Count == 0) return;
            long meant = runs.Sum(r => r.To - r.From + 1);
            foreach (long ordinal in meant < taken.Count ? [.. runs.SelectMany(Ordinals).Where(taken.Contains)] : (IEnumerable<long>)taken)
            {
                if (log.Mine?.Contains(ordinal) == true) continue;
                int at = runs.FindIndex(r => ordinal >= r.From && ordinal <= r.To);
                if (at < 0) continue;
                var run = runs[at];
                runs.RemoveAt(at);
                if (run.From < ordinal) runs.Add(new OrdinalRun(run.From, ordinal - 1));
                if (run.To > ordinal) runs.Add(new OrdinalRun(ordinal + 1, run.To));
            }
        }

        static IEnumerable<long> Ordinals(OrdinalRun run)
        {
            for (long ordinal = run.From; ordinal <= run.To; ordinal++) yield return ordinal;
        }

        /// <summary>Takes out of the rest what is dead for this user.</summary>
        void LeaveDead()
        {
            if (log.Log.Dead.IsEmpty) return;
            var alive = new List<OrdinalRun>(rest.Count);
            foreach (var run in rest) alive.AddRange(log.AliveIn(run));
            rest.Clear();
            rest.AddRange(alive);
        }

        void Note(OrdinalRun run, MarkKind kind, ReceiptState said, int sign)
        {
            long id = log.Log.Id;
            ReadChanged |= kind == MarkKind.Read;
            if (sign > 0) ledger.Store.AddRun(user.PersonId, id, kind, run, now, device);
            ledger.Count(id, kind, run, sign);
            ledger.Observe(o => o.Marked(state.Row.Name, id, run, kind, sign));
            if (!ledger.Options.KeepsFullReceipts && !state.Events.KeepsFullReceipts) return;
            for (long from = run.From; from <= run.To; from += MaxReceiptRun)
            {
                var part = new OrdinalRun(from, Math.Min(run.To, from + MaxReceiptRun - 1));
                ledger.Store.AppendReceipt(state.Id,
                    new ReceiptRow(++state.LastReceipt, now, said, id, part, user.PersonId, device, 0, ""));
            }
            ledger.Observe(o => o.Receipted(state.Row.Name));
        }
    }
}
