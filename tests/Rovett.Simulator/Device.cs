using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Marks;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Simulator;

/// <summary>A device with its page: it keeps a list and a total, acknowledges, comes back with its cursor, and checks
/// everything it is told. On the other end of its line stands a real session.</summary>
sealed partial class Device(World world, string user, string name, TransportKind transport)
{
    sealed class Line
    {
        public required int Number, Life;
        public required long Issued;
        public required Session Session;
        public ISessionPort Port = null!; // the session as the ledger has it
        public SimLink? Link; // to the node that holds it; null: it is the one that serves
        public uint NumberThere;
        public required SessionFeeder Feeder;
        public UserState User = null!;
        public ReadPlan? Plan;
        public readonly Queue<byte[]> Flying = new();
        public readonly List<byte> Arrived = [];
        public long LastPosition, OpenedAt;
        public required int Key; // the signing key that its token was made with
        public bool Asking = true; // long poll: a request waits
        public bool EndedByKey;
        public bool Stays; // when another node takes the space
        public bool Moving; // it is let in nowhere just now
        public bool EndedBefore, Dismissed, Forgotten, Pumping, Supplying, Open, Cut, Closed, Detached, Current, Acks;
        public readonly HashSet<NotificationId> Seen = [], Caused = [];
    }

    static readonly SessionLimits Limits = new()
    {
        Window = 12,
        MaxQueued = 10,
        AckTimeout = TimeSpan.FromSeconds(2),
        Heartbeat = TimeSpan.FromSeconds(2)
    };

    readonly Dictionary<NotificationId, bool> list = []; // what the page shows
    readonly HashSet<NotificationId> handled = [];
    Line? line;
    string? cursor;
    long listFrom = -1, unread = -1, rev = -1;
    string asOf = "";
    int lines;
    bool slow, calm, opening, gapSeen;

    public string User => user;
    readonly Dictionary<Line, string?> attends = [];
    readonly List<Line> known = []; // to the service, also those that are gone without its having heard of it

    /// <summary>Whether a session of this device says to the service that its user looks at a subject.</summary>
    public bool Attends(string subject) =>
        attends.Any(
        a => a.Value == subject && !a.Key.Dismissed
        // One that ends in this batch, be it by a later command or as it is too slow, attends until then.
        && (((a.Key.Closed || a.Key.EndedByKey) && !a.Key.Forgotten) || !a.Key.Session.IsEnded || !a.Key.EndedBefore));

    /// <summary>The ledger has ended every session of the user by now, also those whose device is gone and not detached yet.</summary>
    public void AllDismissed()
    {
        foreach (var at in attends.Keys) at.Dismissed = true;
    }

    /// <summary>A batch begins: what has ended until now does not end later in it.</summary>
    public void BatchBegins()
    {
        foreach (var at in attends.Keys)
        {
            at.EndedBefore = at.Session.IsEnded;
            // After a failure the ledger may forget a session that has ended and is not detached yet.
            at.Forgotten = at.EndedBefore && !world.Knows(at.Port);
        }
    }

    /// <summary>The service died: it remembers nothing of what sessions said.</summary>
    public void ServiceDied()
    {
        attends.Clear();
        known.Clear();
        subscribed.Clear();
        watched.Clear();
        opening = false;
    }

    public bool IsQuiet => line is { Current: true, Cut: false, Flying.Count: 0, Session.IsLive: true } && line.Session.Outstanding == 0;

    /// <summary>A session that goes on must be known to the ledger.</summary>
    public void CheckFed(Ledger ledger)
    {
        if (line is { Cut: false, Closed: false, Moving: false } at && !at.Session.IsEnded && !ledger.Feeds("main", at.Port))
        {
            throw world.Wrong($"{name}'s session goes on, and the ledger does not know it");
        }
        foreach (var (at2, subject) in attends)
        {
            if (at2.Closed || at2.Session.IsEnded || !ledger.Feeds("main", at2.Port)) continue;
            var (said, listed) = ledger.AttendsOf("main", at2.Port);
            if (said != subject || (said is not null && !listed))
            {
                throw world.Wrong($"{name} attends {subject}, and the ledger has {said}, listed {listed}");
            }
        }
    }

    /// <summary>Connects, if it is not.</summary>
    public void ComeBack(TimeSpan delay) => world.After(delay, Open);

    public void Calm() => (slow, calm) = (false, true);

    void Open()
    {
        if (line is not null || opening) return;
        opening = true;
        int born = world.Life;
        long? after = null;
        bool foreign = false;
        if (cursor is not null)
        {
            var state = world.Seal.Open(cursor, out var position);
            if (state == CursorState.Valid) after = position.Value;
            else foreign = true;
        }
        if (foreign)
        {
            // The page is told of a gap and begins anew from its inbox.
            cursor = null;
            list.Clear();
            handled.Clear();
            listFrom = unread = rev = -1;
            asOf = "";
        }
        int key = world.KeyNumber, era = world.Era;
        long issued = world.Issued(maybeStale: !calm);
        var link = world.Random.Next(2) == 0 ? world.Link : null;
        Line made = null!;
        made = new Line
        {
            Key = key,
            Issued = issued,
            Number = ++lines,
            Life = world.Life,
            Link = link,
            Feeder = new SessionFeeder(new HistoryReader(world.History), link?.Recent ?? world.Recent, world.Seal),
            Session = new Session(transport, Limits, world.Clock.Elapsed, () => Pump(made))
        };
        made.Port = link?.Enter(made.Session, out made.NumberThere) ?? made.Session;
        made.Stays = (made.Number + name[^1]) % 2 == 0;
        var attach = new AttachCommand("main", new Identity(new UserId(user), null, issued), name, made.Port,
            new DevicePoint(after, foreign));
        world.Post(attach, task =>
        {
            if (born == world.Life) opening = false;
            // An answer that a link brings after another node took the space: the device has gone on meanwhile.
            if (task.IsFaulted || born != world.Life)
            {
                link?.Leave(made.NumberThere);
                if (born == world.Life) ComeBack(world.Short(300));
                return;
            }
            var opened = task.Result;
            made.User = opened.User;
            made.Plan = opened.Plan;
            line = made;
            known.Add(made);
            made.Acks = calm || world.Random.Next(5) > 0;
            IReadOnlyList<ControlMessage> words = [];
            var start = opened.LiveFrom ?? made.Feeder.Begin(opened.Plan!, after, foreign, made.Session.PageSize, out words);
            if (foreign && words.Count == 0) throw world.Wrong($"{name} came with a foreign cursor and was told nothing");
            made.LastPosition = start.Value;
            made.OpenedAt = opened.Head.Value;
            var first = new List<ControlMessage>
                { Messages.Opened("s", user, "main", opened.Channels, opened.Totals, world.Seal.Seal(start), Limits.Window, 2, "x", name,
                default) };
            first.AddRange(words);
            GoesOn(made);
            made.Open = true; // as in the service, where the pump starts once it is attached
            made.Session.Open(first, start);
            if (made.Key != world.KeyNumber) EndByKey(made); // it was withdrawn while it was let in
        }, now =>
        {
            if (!world.Reference.Holds(user, issued)) throw world.Wrong($"{name} was let in with a credential that does not hold");
            // Made by the clock that was wrong; nobody can know it any more.
            if (era != world.Era) world.Reference.Of(user).Ended.Remove(issued);
            world.Reference.Token(now, user, null, issued);
            if (attach.Task.Result.Totals.Unread != world.Reference.Unread(user))
            {
                throw world.Wrong($"{name} opened with {attach.Task.Result.Totals.Unread} unread, the reference says " +
                    $"{world.Reference.Unread(user)}: {world.TotalsOf(user)}");
            }
        }, refused: () => world.Refused(user, issued), link: link);
    }

    /// <summary>Where a send comes from that this device's user causes, and what the device does then: it reads its
    /// inbox, for it is not sent it.</summary>
    public ((UserState, ISessionPort) At, Action<NotificationId> Caused)? Place =>
        line is not { Detached: false } at ? null : ((at.User, at.Port), id =>
    {
        at.Caused.Add(id);
        listFrom = -1;
        int born = world.Life;
        world.After(world.Short(20), () =>
        {
            if (born == world.Life && line is { Open: true } && cursor is not null && listFrom < 0) Refresh();
        });
    }
    );

    /// <summary>The signing key of a session's token is no more.</summary>
    public void KeyWithdrawn()
    {
        foreach (var at in known.Where(l => l.Key != world.KeyNumber).ToList()) EndByKey(at);
    }

    void EndByKey(Line at)
    {
        if (at.Session.IsEnded) return;
        at.EndedByKey = true; // what the ledger knows of it goes when it is detached
        at.Session.End(Messages.Ending("signing-key-removed", null));
        Pump(at);
    }

    public void Attend(string? subject)
    {
        if (line is not { Detached: false } at) return;
        Say(at, subject is null ? "{\"kind\":\"attend\",\"subject\":null}" : $"{{\"kind\":\"attend\",\"subject\":\"{subject}\"}}",
            message =>
        {
            var attend = new AttendCommand("main", at.User, at.Port, message.Subject);
            world.Post(attend, _ => { }, _ =>
            {
                if (attend.Task.Result) attends[at] = message.Subject;
            });
        });
    }

    public void MarkSomething()
    {
        if (line is not { Detached: false } at || list.Count == 0) return;
        var id = list.Keys.ElementAt(world.Random.Next(list.Count));
        if (world.Random.Next(4) == 0)
        {
            world.PostTake(user, id, world.Random.Next(2) == 0, (at.Session, at.Port));
            return;
        }
        bool read = world.Random.Next(3) > 0;
        Say(at, $"{{\"kind\":\"{(read ? "markRead" : "markUnread")}\",\"ids\":[\"{id}\"]}}", message =>
            world.PostMark(user, read ? MarkVerb.Read : MarkVerb.Unread, message.Marks!, s => world.Sent(id) == s, name, (at.Session, at.Port)));
    }

    /// <summary>Something goes wrong on the way, or comes right.</summary>
    public void Misbehave()
    {
        switch (world.Random.Next(5))
        {
            case 0:
                Lose(cut: true);
                break;
            case 1:
                slow = true;
                break;
            case 2:
                slow = false;
                if (line is { } at) Pump(at);
                break;
            default:
                ComeBack(world.Short(2000));
                break;
        }
    }

    public void Tick()
    {
        if (line is not { } at || at.Detached) return;
        at.Session.Tick(world.Clock.Elapsed);
        if (calm)
        {
            at.Acks = true;
            Ack(at, upTo: true);
        }
        Pump(at);
    }

    /// <summary>The line is gone. What was in flight is lost; the service hears of it later.</summary>
    public void Lose(bool cut)
    {
        if (line is not { } at) return;
        world.Counts.Cuts++;
        line = null;
        at.Cut = true;
        at.Flying.Clear();
        if (at.Moving) at.Session.End(null); // whoever lets it in meanwhile is told
        if (at.Moving && calm) ComeBack(world.Short(50));
        if (at.Moving) return;
        int born = world.Life;
        world.After(world.Short(cut && !calm ? 1500 : 5), () =>
        {
            if (at.Detached || born != world.Life) return;
            at.Detached = true;
            known.Remove(at);
            // One that the service has dismissed attends nothing any more; another does until it is detached.
            if (at.Session.IsEnded && !at.EndedByKey) attends.Remove(at);
            at.Closed = true;
            subscribed.Remove(at);
            watched.Remove(at);
            at.Session.End(null);
            at.Link?.Leave(at.NumberThere);
            var detach = new DetachCommand("main", at.User, at.Port);
            world.Post(detach, _ => { }, _ => attends.Remove(at), () => attends.Remove(at)); // gone either way
        });
        if (calm) ComeBack(world.Short(50));
    }

    /// <summary>Nothing is in flight any more: list and total must be right.</summary>
    public void CheckAtPeace()
    {
        if (line is not { } at) throw world.Wrong($"{name} did not get back");
        if (!IsQuiet)
        {
            throw world.Wrong($"{name} does not come to rest: live {at.Session.IsLive}, current {at.Current}, outstanding " +
                $"{at.Session.Outstanding}, in flight {at.Flying.Count}, needs {at.Session.Next()}, ended {at.Session.IsEnded}; " +
                $"{transport}, pumping {at.Pumping}, asking {at.Asking}, moving {at.Moving}, open {at.Open}, detached {at.Detached}, " +
                $"slow {slow}, life {at.Life} of {world.Life}");
        }
        long expected = world.Reference.Unread(user);
        if (unread != expected) throw world.Wrong($"{name} shows {unread} unread (rev {rev}, as of {asOf}), the reference says {expected}");
        CheckSubscribed(at);
        CheckPresence(at);
        // What retention takes without a word stays on a screen that was there; muted ones were never sent.
        var shown = list.Keys.Select(world.Sent).OfType<Reference.Sent>()
            .Where(s => s.Position > world.Reference.Floor && !world.Reference.IsMuted(user, s)).Select(s => s.Number).Order().ToList();
        var wanted = world.Reference.Visible(user).Where(s => !world.Reference.IsMuted(user, s)).Select(s => s.Number).Order().ToList();
        string Describe(int number) => $"[{number} at {world.Reference.All[number].Position} to " +
            $"{string.Join(',', world.Reference.All[number].To)} except {string.Join(',', world.Reference.All[number].Except)} " +
            $"{world.Reference.All[number].Ended} {world.Reference.All[number].TakenBy}]";
        if (!gapSeen && !shown.SequenceEqual(wanted))
        {
            throw world.Wrong($"{name} shows {string.Join(' ', shown)}; missing " +
                $"{string.Join(' ', wanted.Except(shown).Select(Describe))}, too much " +
                $"{string.Join(' ', shown.Except(wanted).Select(Describe))}");
        }
    }
}
