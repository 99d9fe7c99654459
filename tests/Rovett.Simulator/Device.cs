using System.Text;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.AddressLogs;
using Rovett.Core.Delivery;
using Rovett.Core.Ledger;

namespace Rovett.Simulator;

/// <summary>A device with its page: it keeps a list and a total, acknowledges, comes back with its cursor, and checks
/// everything it is told. On the other end of its line stands a real session.</summary>
sealed class Device(World world, string user, string name, TransportKind transport)
{
    sealed class Line
    {
        public required int Number, Life;
        public required Session Session;
        public required SessionFeeder Feeder;
        public UserState User = null!;
        public ReadPlan? Plan;
        public readonly Queue<byte[]> Flying = new();
        public readonly List<byte> Arrived = [];
        public long LastPosition;
        public bool Pumping, Supplying, Open, Cut, Closed, Detached, Current, Acks;
        public readonly HashSet<NotificationId> Seen = [];
    }

    static readonly SessionLimits Limits = new() { Window = 12, MaxQueued = 10, AckTimeout = TimeSpan.FromSeconds(2), Heartbeat = TimeSpan.FromSeconds(2) };

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

    /// <summary>Whether a session of this device says to the service that its user looks at a subject.</summary>
    public bool Attends(string subject) => attends.Any(a => a.Value == subject && (a.Key.Closed || !a.Key.Session.IsEnded));

    /// <summary>The service died: it remembers nothing of what sessions said.</summary>
    public void ServiceDied()
    {
        attends.Clear();
        opening = false;
    }

    public bool IsQuiet => line is { Current: true, Cut: false, Flying.Count: 0, Session.IsLive: true } && line.Session.Outstanding == 0;

    /// <summary>A session that goes on must be known to the ledger.</summary>
    public void CheckFed(Ledger ledger)
    {
        if (line is { Cut: false, Closed: false } at && !at.Session.IsEnded && !ledger.Feeds("main", at.Session)) throw world.Wrong($"{name}'s session goes on, and the ledger does not know it");
        foreach (var (at2, subject) in attends)
        {
            if (at2.Closed || at2.Session.IsEnded || !ledger.Feeds("main", at2.Session)) continue;
            var (said, listed) = ledger.AttendsOf("main", at2.Session);
            if (said != subject || (said is not null && !listed)) throw world.Wrong($"{name} attends {subject}, and the ledger has {said}, listed {listed}");
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
        Line made = null!;
        var attach = new AttachCommand("main", new Identity(new UserId(user), null, 0), name, info =>
        {
            made = new Line { Number = ++lines, Life = world.Life, Feeder = new SessionFeeder(world.History, world.Recent, world.Seal, 1), Session = null! };
            made.Session = new Session(transport, Limits, info.Plan.Version, info.User.Dispatched, info.Marks, world.Clock.Elapsed, () => Pump(made));
            return made.Session;
        });
        world.Post(attach, task =>
        {
            opening = false;
            if (task.IsFaulted)
            {
                if (born == world.Life) ComeBack(world.Short(300));
                return;
            }
            var opened = task.Result;
            made.User = opened.User;
            made.Plan = opened.Plan;
            line = made;
            made.Acks = calm || world.Random.Next(5) > 0;
            var start = made.Feeder.Begin(opened.Plan, after, foreign, out var words);
            if (foreign && words.Count == 0) throw world.Wrong($"{name} came with a foreign cursor and was told nothing");
            made.LastPosition = start.Value;
            var first = new List<ControlMessage> { Messages.Opened("s", user, "main", opened.Channels, opened.Totals, world.Seal.Seal(start), Limits.Window, 2, "x", name, default) };
            first.AddRange(words);
            made.Open = true; // as in the service, where the pump starts once it is attached
            made.Session.Open(first, start);
        }, now =>
        {
            world.Reference.Token(now, user, null, 0);
            if (attach.Task.Result.Totals.Unread != world.Reference.Unread(user)) throw world.Wrong($"{name} opened with {attach.Task.Result.Totals.Unread} unread, the reference says {world.Reference.Unread(user)}");
        });
        // A restart forgets what was asked.
        world.After(TimeSpan.FromSeconds(1), () =>
        {
            if (born != world.Life) opening = false;
        });
    }

    // ---- the service's side of the line

    void Pump(Line at)
    {
        if (at.Pumping || !at.Open || at.Cut || at.Life != world.Life) return;
        at.Pumping = true;
        int born = world.Life;
        world.After(world.Short(slow ? 400 : 3), () =>
        {
            at.Pumping = false;
            if (born != world.Life || at.Detached) return;
            if (slow && at.Flying.Count > 2) return; // a full socket takes nothing
            var buffer = new byte[world.Random.Next(600, 4000)];
            int count = at.Session.Drain(buffer, out var large);
            if (count > 0 || large is not null)
            {
                Fly(at, large ?? buffer[..count]);
                at.Session.Written(world.Clock.Elapsed);
                Pump(at);
            }
            else if (at.Session.IsEnded) Lose(cut: false);
            else Supply(at);
        });
    }

    void Supply(Line at)
    {
        if (at.Supplying) return;
        var (need, version) = at.Session.Next();
        if (need == SessionNeed.None) return;
        at.Supplying = true;
        switch (need)
        {
            case SessionNeed.Page when at.Plan is null || at.Plan.Version != version:
                world.Post(new PlanCommand("main", user), t => Supplied(at, () => at.Plan = t.IsFaulted ? null : t.Result));
                break;
            case SessionNeed.Page:
                int born = world.Life;
                world.After(world.Short(3), () =>
                {
                    if (born == world.Life) Supplied(at, () => at.Feeder.Page(at.Session, at.Plan!));
                });
                break;
            case SessionNeed.GoLive:
                at.Plan = null;
                world.Post(new GoLiveCommand("main", user, at.Session, version), t => Supplied(at, () =>
                {
                    if (t.IsFaulted) at.Session.StayBehind();
                }));
                break;
            default:
                world.Post(new AgainCommand("main", at.User, at.Session.TakeAgain()), t => Supplied(at, () =>
                {
                    if (!t.IsFaulted) at.Session.Repeat(t.Result.Found, t.Result.PlanVersion, t.Result.Totals);
                }));
                break;
        }
    }

    void Supplied(Line at, Action then)
    {
        at.Supplying = false;
        if (at.Detached) return;
        then();
        Pump(at);
    }

    void Fly(Line at, byte[] bytes)
    {
        CheckLeaving(bytes);
        at.Flying.Enqueue(bytes);
        world.After(world.Short(slow ? 900 : 20), () =>
        {
            if (at.Cut || !at.Flying.TryDequeue(out var arrived)) return;
            at.Arrived.AddRange(arrived);
            Read(at);
            Pump(at);
        });
    }

    /// <summary>What leaves for a user must be that user's to see when it leaves.</summary>
    void CheckLeaving(byte[] bytes)
    {
        foreach (var message in Split([.. bytes], out _))
        {
            if (Id(message) is not { } id || world.Sent(id) is not { } sent) continue;
            if (world.Reference.Reaches(user, sent) is null) throw world.Wrong($"{name} is sent {message.GetProperty("kind").GetString()} of {sent.Number} ({string.Join(' ', sent.To)} except {string.Join(' ', sent.Except)}), which is not {user}'s to see");
        }
    }

    // ---- the device's side of the line

    static NotificationId? Id(JsonElement message) => message.TryGetProperty("id", out var text) && NotificationId.TryParse(text.GetString(), out var id) ? id : null;

    void Read(Line at)
    {
        var messages = Split(at.Arrived, out int used);
        at.Arrived.RemoveRange(0, used);
        foreach (var message in messages)
        {
            if (at.Cut) return;
            world.Counts.Delivered++;
            Take(at, message);
        }
    }

    List<JsonElement> Split(List<byte> bytes, out int used)
    {
        var messages = new List<JsonElement>();
        used = 0;
        for (; ; )
        {
            int at = used;
            if (transport == TransportKind.WebSocket)
            {
                if (bytes.Count - at < 2) return messages;
                int length = bytes[at + 1], head = 2;
                if (length == 126)
                {
                    if (bytes.Count - at < 4) return messages;
                    (length, head) = (bytes[at + 2] << 8 | bytes[at + 3], 4);
                }
                if (bytes.Count - at < head + length) return messages;
                if ((bytes[at] & 15) == 1) messages.Add(Parse([.. bytes.GetRange(at + head, length)]));
                used = at + head + length;
                continue;
            }
            int end = -1;
            for (int i = at; i + 1 < bytes.Count && end < 0; i++)
            {
                if (bytes[i] == '\n' && bytes[i + 1] == '\n') end = i + 2;
            }
            if (end < 0) return messages;
            var data = Encoding.UTF8.GetString([.. bytes.GetRange(at, end - at)]).Split('\n').FirstOrDefault(l => l.StartsWith("data: ", StringComparison.Ordinal));
            if (data is not null) messages.Add(Parse(Encoding.UTF8.GetBytes(data[6..])));
            used = end;
        }
    }

    static JsonElement Parse(byte[] json)
    {
        using var document = JsonDocument.Parse(json);
        return document.RootElement.Clone();
    }

    void Take(Line at, JsonElement message)
    {
        var kind = message.GetProperty("kind").GetString()!;
        world.Note($"{name} hears {message.GetRawText()}");
        if (message.TryGetProperty("cursor", out var said) && kind != "opened") Advance(at, said.GetString()!, kind);
        switch (kind)
        {
            case "opened":
                cursor ??= message.GetProperty("cursor").GetString();
                Totals(message.GetProperty("totals"));
                if (listFrom < 0) Refresh();
                break;
            case "current":
                at.Current = true;
                break;
            case "gap":
                if (message.GetProperty("reason").GetString() == "retention") gapSeen = true;
                Refresh();
                break;
            case "channels":
                Totals(message.GetProperty("totals"));
                Refresh();
                break;
            case "notification":
                Notification(at, message);
                break;
            case "withdrawn" or "replaced" or "expired":
                list.Remove(Id(message)!.Value);
                Count(message);
                break;
            case "taken":
                if (message.GetProperty("by").GetString() != user) list.Remove(Id(message)!.Value);
                Count(message);
                break;
            case "released":
                list[Id(message)!.Value] = true;
                Count(message);
                break;
            case "totals" or "read" or "done":
                Totals(message.GetProperty("totals"));
                break;
            case "ackDue":
                if (at.Acks) Ack(at, upTo: true);
                break;
            case "ending":
                Lose(cut: true);
                ComeBack(world.Short(200));
                break;
        }
    }

    void Notification(Line at, JsonElement message)
    {
        var id = Id(message)!.Value;
        bool first = at.Seen.Add(id);
        if (!first && message.GetProperty("attempt").GetInt32() == 1) throw world.Wrong($"{name} is sent {id} twice as the first attempt");
        if (world.Sent(id) is { } sent && world.Reference.Reaches(user, sent) is { } address && address != message.GetProperty("to").GetString() && at.Current)
            world.Note($"{name} hears {id} by {message.GetProperty("to")}, the reference now says {address}");
        if (handled.Add(id)) list[id] = true;
        Count(message);
        if (!at.Acks) return;
        if (!calm && first && world.Random.Next(40) == 0) Again(at, id);
        else if (world.Random.Next(3) == 0 || calm) world.After(world.Short(50), () => Ack(at, world.Random.Next(2) == 0 || calm));
    }

    void Count(JsonElement message)
    {
        long position = PositionOf(message.GetProperty("cursor").GetString()!);
        long count = message.GetProperty("unread").GetInt64();
        if (world.TotalsOverTime.TryGetValue(user, out var over) && position > 0)
        {
            int from = over.FindLastIndex(o => o.Head < position);
            if (!over.Skip(Math.Max(0, from)).Any(o => o.Unread == count)) throw world.Wrong($"{name} hears {count} unread with position {position}; it was never so since: {string.Join(' ', over.Skip(Math.Max(0, from)))}");
        }
        Totals(message.GetProperty("rev").GetInt64(), message.GetProperty("time").GetString()!, count);
    }

    void Totals(JsonElement totals) => Totals(totals.GetProperty("rev").GetInt64(), totals.GetProperty("asOf").GetString()!, totals.GetProperty("unread").GetInt64());

    /// <summary>Keeps the newest totals: the user's own changes first, then the time.</summary>
    void Totals(long newRev, string newAsOf, long newUnread)
    {
        if (newRev < rev || (newRev == rev && string.CompareOrdinal(newAsOf, asOf) < 0)) return;
        (rev, asOf, unread) = (newRev, newAsOf, newUnread);
    }

    long PositionOf(string sealedPosition) => world.Seal.Open(sealedPosition, out var position) == CursorState.Valid ? position.Value : -1;

    void Advance(Line at, string to, string kind)
    {
        long position = PositionOf(to);
        if (position < 0) return; // from before a restore, still in flight
        if (kind != "notification" && position < at.LastPosition) throw world.Wrong($"{name} hears {kind} at {position} after {at.LastPosition}");
        if (position < at.LastPosition) return; // once more
        at.LastPosition = position;
        cursor = to;
    }

    /// <summary>Reads the inbox, as a page does when it opens, when its channels changed, and at a gap.</summary>
    void Refresh()
    {
        var plan = new PlanCommand("main", user);
        world.ProcessNow(plan);
        if (plan.Task.IsFaulted) world.After(world.Short(500), Refresh);
        if (plan.Task.IsFaulted || plan.Task.Result is not { } found) return;
        list.Clear();
        foreach (var item in world.History.Inbox(found, 1, long.MaxValue, 10_000, Storage.Sql.InboxState.All).Items)
        {
            list[item.Entry.Id] = true;
            handled.Add(item.Entry.Id);
        }
        listFrom = found.Head.Value;
        world.Note($"{name} reads its inbox at {listFrom}: {string.Join(' ', list.Keys.Select(i => world.Sent(i)?.Number))}");
    }

    void Say(Line at, string json, Action<DeviceMessage> then)
    {
        if (at.Cut) return;
        int born = world.Life;
        world.After(world.Short(20), () =>
        {
            if (at.Cut || at.Detached || born != world.Life) return;
            at.Session.HeardAnything(world.Clock.Elapsed);
            var message = DeviceMessage.Parse(Encoding.UTF8.GetBytes(json), world.Seal);
            if (message.Problem is { Slug: "foreign-cursor" }) return; // it came before a restore
            if (message.Problem is { } problem) throw world.Wrong($"{name} said {json} and was refused: {problem.Detail}");
            then(message);
        });
    }

    void Ack(Line at, bool upTo)
    {
        if (upTo && cursor is null) return;
        var ids = at.Seen.TakeLast(1 + world.Random.Next(4)).ToList();
        if (!upTo && ids.Count == 0) return;
        bool did = world.Random.Next(2) == 0;
        var json = upTo ? $"{{\"kind\":\"ack\",\"upTo\":\"{cursor}\",\"handled\":{(did ? "true" : "false")}}}" : $"{{\"kind\":\"ack\",\"ids\":[{string.Join(',', ids.Select(i => $"\"{i}\""))}]}}";
        Say(at, json, message =>
        {
            var acked = new List<AckedRun>();
            at.Session.Acknowledge(message.Marks!.UpTo?.Position, message.Marks.Ids is { } named ? [.. named] : null, world.Clock.Elapsed, acked);
            int born = world.Life;
            world.After(world.Short(100), () => // written behind, and lost with the service
            {
                if (acked.Count > 0 && born == world.Life) world.PostAcks(user, acked, message.Handled, name);
            });
        });
    }

    void Again(Line at, NotificationId id) => Say(at, $"{{\"kind\":\"ack\",\"again\":true,\"ids\":[\"{id}\"]}}", message => at.Session.WantAgain([.. message.Marks!.Ids!], world.Clock.Elapsed, out _));

    public void Attend(string? subject)
    {
        if (line is not { Detached: false } at) return;
        Say(at, subject is null ? "{\"kind\":\"attend\",\"subject\":null}" : $"{{\"kind\":\"attend\",\"subject\":\"{subject}\"}}", message =>
        {
            var attend = new AttendCommand("main", at.User, at.Session, message.Subject);
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
            world.PostTake(user, id, world.Random.Next(2) == 0, at.Session);
            return;
        }
        bool read = world.Random.Next(3) > 0;
        Say(at, $"{{\"kind\":\"{(read ? "markRead" : "markUnread")}\",\"ids\":[\"{id}\"]}}", message =>
            world.PostMark(user, read ? MarkVerb.Read : MarkVerb.Unread, message.Marks!, s => world.Sent(id) == s, name, at.Session));
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
        int born = world.Life;
        world.After(world.Short(cut && !calm ? 1500 : 5), () =>
        {
            if (at.Detached || born != world.Life) return;
            at.Detached = true;
            // One that the service has dismissed attends nothing any more; another does until it is detached.
            if (at.Session.IsEnded) attends.Remove(at);
            at.Closed = true;
            at.Session.End(null);
            var detach = new DetachCommand("main", at.User, at.Session);
            world.Post(detach, _ => { }, _ => attends.Remove(at), () => attends.Remove(at)); // gone either way
        });
        if (calm) ComeBack(world.Short(50));
    }

    /// <summary>Nothing is in flight any more: list and total must be right.</summary>
    public void CheckAtPeace()
    {
        if (line is not { } at) throw world.Wrong($"{name} did not get back");
        if (!IsQuiet) throw world.Wrong($"{name} does not come to rest: live {at.Session.IsLive}, current {at.Current}, outstanding {at.Session.Outstanding}, in flight {at.Flying.Count}, needs {at.Session.Next()}, ended {at.Session.IsEnded}");
        long expected = world.Reference.Unread(user);
        if (unread != expected) throw world.Wrong($"{name} shows {unread} unread (rev {rev}, as of {asOf}), the reference says {expected}");
        // What retention takes without a word stays on a screen that was there; muted ones were never sent.
        var shown = list.Keys.Select(world.Sent).OfType<Reference.Sent>().Where(s => s.Position > world.Reference.Floor && !world.Reference.IsMuted(user, s)).Select(s => s.Number).Order().ToList();
        var wanted = world.Reference.Visible(user).Where(s => !world.Reference.IsMuted(user, s)).Select(s => s.Number).Order().ToList();
        string Describe(int number) => $"[{number} at {world.Reference.All[number].Position} to {string.Join(',', world.Reference.All[number].To)} except {string.Join(',', world.Reference.All[number].Except)} {world.Reference.All[number].Ended} {world.Reference.All[number].TakenBy}]";
        if (!gapSeen && !shown.SequenceEqual(wanted)) throw world.Wrong($"{name} shows {string.Join(' ', shown)}; missing {string.Join(' ', wanted.Except(shown).Select(Describe))}, too much {string.Join(' ', shown.Except(wanted).Select(Describe))}");
    }
}
