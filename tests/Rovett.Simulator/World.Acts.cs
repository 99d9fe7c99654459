using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Ledgers.Commands.Marking;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Marks;
using Rovett.Core.Notifications;
using Rovett.Core.Visibility;
using Rovett.Core.Wire;

namespace Rovett.Simulator;

/// <summary>What happens in a world.</summary>
public sealed partial class World
{
    /// <summary>One thing happens, drawn by chance.</summary>
    void Act()
    {
        switch (random.Next(topical ? 154 : 100))
        {
            case < 30: Send(); break;
            case < 36: Publish(); break;
            case < 37: SignOut(); break;
            case < 38 when Chance(0.5): Erase(); break;
            case < 38: Block(Pick(Users), Chance(0.4)); break;
            case < 46: GainOrLose(); break;
            case < 58: MarkByHttp(); break;
            case < 61: Withdraw(); break;
            case < 62 when Chance(0.5): WithdrawGathering(); break;
            case < 62: LoadRules(); break;
            case < 68: Take(); break;
            case < 71: Mute(); break;
            case < 80: Pick(devices).Misbehave(); break;
            case < 84: Pick(devices).Attend(Chance(0.7) ? Pick(Subjects) : null); break;
            case < 88: Pick(devices).MarkSomething(); break;
            case < 89: Fault(); break;
            case < 90: WithdrawKey(); break;
            case < 91 when Chance(0.5): TakeOver(); break;
            case < 91: Crash(); break;
            case < 93: Backup(); break;
            case >= 100 and < 104: LoadPolicies(); break;
            case >= 104 and < 111: GrantSomething(); break;
            case >= 111 and < 115: EndSomeGrant(); break;
            case >= 115 and < 125: FollowSomething(); break;
            case >= 142: Pick(devices).WatchSomething(); break;
            case >= 137: Pick(devices).SaySomething(); break;
            case >= 125: Pick(devices).SubscribeSomething(); break;
            case < 94 when backups.Count > 0 && Chance(0.3): Restore(); break;
            default: clock.AdvanceTo(clock.Elapsed + Short(1000)); break;
        }
    }

    void Fault()
    {
        if (Chance(0.5)) store.WritesUntilFault = random.Next(12);
        else store.FailCommit = true;
        var faulty = store;
        After(Short(30), faulty.Heal);
    }

    void Send()
    {
        var to = Addresses.Where(_ => Chance(0.2)).ToList();
        if (to.Count == 0) to.Add(Pick(Addresses));
        var except = Addresses.Where(a => a.Kind is AddressKind.User or AddressKind.Role && !to.Contains(a) && Chance(0.08)).ToList();
        var type = Pick(Types);
        var subject = Chance(0.5) ? Pick(Subjects) : null;
        var origin = Chance(0.15) ? Pick(devices).Place : null;
        // When the slot of an erased person is free depends on how far the erasure is.
        var slot = Chance(0.15) && !to.Concat(except).Any(a => a.Kind == AddressKind.User && a.Name == Guest) ? "latest" : null;
        TimeSpan? ttl = Chance(0.25) ? TimeSpan.FromMilliseconds(random.Next(1000, 40_000_000)) : null;
        TimeSpan? takeFor = null;
        if (Chance(0.3))
        {
            to = [Address.Role(Pick(Roles))];
            except.RemoveAll(a => to.Contains(a));
            takeFor = Chance(0.5) ? TimeSpan.FromSeconds(random.Next(1, 20_000)) : TimeSpan.Zero;
        }
        var draft = new Draft(to, except, [],
            new NotificationTraits(type, subject, Chance(0.5) ? ReceiptLevel.Full : ReceiptLevel.Totals, takeFor))
        { Slot = slot, Ttl = ttl };
        var numbered = new NumberedDraft(this, draft, origin?.At);
        Post(numbered.Command, _ => { }, now =>
        {
            numbered.Apply(now);
            origin?.Caused(numbered.Command.Task.Result.Id);
        });
        Counts.Sent++;
    }

    /// <summary>A send whose text is its number in the reference, which is known only once it is its turn.</summary>
    sealed class NumberedDraft
    {
        readonly World world;
        readonly Draft draft;
        public SendCommand Command { get; }

        public NumberedDraft(World world, Draft draft, (UserState, ISessionPort)? origin)
        {
            this.world = world;
            this.draft = draft with { Body = Encoding.UTF8.GetBytes($"\"n\":{world.drafts}") };
            number = world.drafts++;
            Command = new SendCommand("main", this.draft, null, false, origin);
        }

        readonly int number;

        public void Apply(long now)
        {
            var attending = world.AttendingNow(draft.Traits.Subject);
            var sent = world.reference.Send(now, draft.To, draft.Except, draft.Traits.Type, draft.Traits.Subject, draft.Slot, draft.Ttl,
                draft.Traits.TakeFor, attending);
            world.numberOf[number] = sent.Number;
            if (Command.Task.Result.Position.Value != sent.Position)
            {
                throw world.Wrong($"the send got position {Command.Task.Result.Position}, the reference says {sent.Position}");
            }
        }
    }

    int drafts;
    readonly Dictionary<int, int> numberOf = [];

    /// <summary>The notification of an id, as the reference knows it.</summary>
    internal Reference.Sent? Sent(NotificationId id) => numbers.TryGetValue(id, out int draft)
        && numberOf.TryGetValue(draft, out int number) && number < reference.All.Count ? reference.All[number] : null;

    Reference.Sent? SentAt(long log, long ordinal) =>
        numberAt.TryGetValue((log, ordinal), out int draft) && numberOf.TryGetValue(draft, out int number) ? reference.All[number] : null;

    NotificationId? IdOf(Reference.Sent sent)
    {
        foreach (var (id, draft) in numbers)
        {
            if (numberOf.TryGetValue(draft, out int number) && number == sent.Number && Sent(id) == sent) return id;
        }
        return null;
    }

    IEnumerable<string> AttendingNow(string? subject) =>
        subject is null ? [] : devices.Where(d => d.Attends(subject)).Select(d => d.User).Distinct();

    void GainOrLose()
    {
        var user = Pick(Users);
        var roles = Chance(0.2) ? null : Roles.Where(_ => Chance(0.6)).ToArray();
        long at = Issued(maybeStale: true);
        var attach = new IdentifyAndPlanCommand("main", new Identity(new UserId(user), roles, at));
        Post(attach, _ => { }, now =>
        {
            if (!reference.Holds(user, at)) throw Wrong($"an invalid credential of {user} was accepted: {Standing(user, at)}");
            reference.Token(now, user, roles, at);
            PruneSubscriptions();
            if (attach.Task.Result.Totals.Totals.Unread != reference.Unread(user))
            {
                throw Wrong(
                    $"{user} was told {attach.Task.Result.Totals.Totals.Unread} unread, the reference says {reference.Unread(user)}: " +
                    $"{TotalsOf(user)}; {Shown(user)}");
            }
        }, refused: () => Refused(user, at));
    }

    string Shown(string user) =>
        string.Join(' ',
        reference.Visible(user)
        .Select(s =>
        $"{s.Number}{(reference.Of(user).Read.Contains(s.Number) ? "r" : "")}{(reference.IsMuted(user, s) ? "m" : "")}@{s.Position}"));

    /// <summary>A credential that was made now, on a machine whose clock may be a little ahead; now and then one that lay around.</summary>
    internal long Issued(bool maybeStale)
    {
        long now = StoredTime.From(time.GetUtcNow()).Micros;
        if (maybeStale && made.Count > 0 && Chance(0.3) && Pick(made) is var old && old <= now + MostAhead) return old;
        long fresh = Chance(0.9) ? now : now + random.Next(MostAhead);
        made.Add(fresh);
        return fresh;
    }

    const int MostAhead = 29_000_000;

    internal void Refused(string user, long issuedAt)
    {
        if (reference.Holds(user, issuedAt))
        {
            throw Wrong($"a valid credential of {user} was refused: {Standing(user, issuedAt)}");
        }
    }

    string Standing(string user, long issuedAt) =>
        $"{issuedAt} of {StoredTime.From(time.GetUtcNow()).Micros}, valid from {reference.Of(user).ValidFrom}, shown " +
        $"{string.Join(' ', reference.Of(user).Shown)}, dead {string.Join(' ', reference.Of(user).Dead)}, {ledger.UserOf("main", user)?.Row}";

    void SignOut()
    {
        var user = Pick(Users);
        var command = new SignOutCommand("main", user);
        Post(command, _ => { }, now =>
        {
            Ended(user);
            long validFrom = command.Task.Result.Row.ValidFrom;
            reference.SignOut(now, user, validFrom);
        });
    }

    /// <summary>A key set does not show a key any more: the sessions whose tokens were signed with it end.</summary>
    void WithdrawKey()
    {
        Counts.Withdrawals++;
        KeyNumber++;
        Note($"the key {KeyNumber - 1} is withdrawn");
        foreach (var device in devices) device.KeyWithdrawn();
    }

    bool erasing;

    void Erase()
    {
        var command = new EraseUserCommand("main", Guest, LongestToken);
        Post(command, _ => erasing = true, now =>
        {
            // Nobody is there, or only what is being erased already.
            if (command.Task.Result is not { } row || row.Position <= reference.Head) return;
            Counts.Erasures++;
            erasing = true;
            var person = reference.Of(Guest);
            long validFrom = command.ValidFrom, stored = disk.FindTombstone(1, Tombstones.Hash(disk.FindSpace("main")!.Key, Guest))!.Value;
            if (validFrom < now || validFrom > stored || validFrom < person.ValidFrom
                || person.Shown.Keys.Any(issued => issued >= validFrom && issued <= now + MostAhead))
            {
                throw Wrong($"{Guest} is erased, and a credential of before would hold: valid from {validFrom}, stored {stored}, at {now}; before from " +
                    $"{person.ValidFrom}, shown {string.Join(' ', person.Shown.Keys)}");
            }
            // What was gathered for that person goes, whatever comes of the steps; another of the same id has gatherings anew.
            Counts.Dropped += reference.Gatherings.RemoveAll(g => g.To.Contains(Address.User(new UserId(Guest))));
            Ended(Guest);
            reference.Erase(now, Guest, row.Position, validFrom, row.Pseudonym);
        });
    }

    /// <summary>An erasure goes on by a step, and now and then something happens right then.</summary>
    void EraseStep()
    {
        if (!settling && Chance(0.15)) Fault();
        var step = new EraseStepCommand("main");
        Post(step, task =>
        {
            if (!task.IsCompletedSuccessfully) return;
            erasing = task.Result is not null || disk.Erasures(1).Count > 0; // one may have begun after this step was carried out
            if (erasing && Chance(0.7)) EraseStep();
            else if (erasing && !settling && Chance(0.2)) Crash();
        });
    }

    void Ended(string user)
    {
        foreach (var device in devices.Where(d => d.User == user)) device.AllDismissed();
    }

    void Block(string user, bool blocked)
    {
        var command = new PutUsersCommand("main", [new DirectoryUser(new UserId(user), null, null, null) { Blocked = blocked }]);
        Post(command, _ => { }, now =>
        {
            if (blocked) Ended(user);
            reference.Token(now, user, null, 0);
            reference.Block(now, user, blocked);
        });
    }

    void MarkByHttp()
    {
        var user = Pick(Users);
        var verb = (MarkVerb)random.Next(4);
        MarkSelector selector;
        Func<Reference.Sent, bool> meant;
        switch (random.Next(5))
        {
            case 0 when reference.All.Count > 0 && IdOf(Pick(reference.All)) is { } id:
                selector = new MarkSelector([id], null, null, false);
                meant = s => Sent(id) == s;
                break;
            case 1:
                long upTo = random.NextInt64(reference.Head + 1);
                selector = new MarkSelector(null, (new Position(upTo), "cursor"), null, false);
                meant = s => s.Position <= upTo;
                break;
            case 2:
                var subject = Pick(Subjects);
                selector = new MarkSelector(null, null, subject, false);
                meant = s => s.Subject == subject;
                break;
            case 3 when reference.Visible(user).TakeLast(3).ToList() is { Count: > 0 } newest:
                var ids = newest.Select(IdOf).OfType<NotificationId>().ToList();
                if (ids.Count == 0) return;
                selector = new MarkSelector(ids, null, null, false);
                meant = s => ids.Exists(i => Sent(i) == s);
                break;
            default:
                selector = new MarkSelector(null, null, null, true);
                meant = _ => true;
                break;
        }
        PostMark(user, verb, selector, meant, "http", null);
    }

    internal void PostMark(string user, MarkVerb verb, MarkSelector selector, Func<Reference.Sent, bool> meant, string device,
        (Session Session, ISessionPort Port)? origin) =>
        PostMark(user, verb, selector, meant, device, origin, Chance(0.5) ? 1 + random.Next(3) : int.MaxValue, null, []);

    void PostMark(string user, MarkVerb verb, MarkSelector selector, Func<Reference.Sent, bool> meant, string device, (Session Session, ISessionPort Port)? origin,
        int most, MarkProgress? from, HashSet<int> done)
    {
        var mark = new MarkCommand("main", user, verb, selector, device, origin?.Port, null, most, from);
        Post(mark, t =>
        {
            if (mark.Rest is { } rest && t.IsCompletedSuccessfully) PostMark(user, verb, selector, meant, device, origin, most, rest, done);
            else Answer(origin, t);
        }, _ =>
        {
            var person = reference.Of(user);
            var looked =
                mark.Parts.SelectMany(
                p => Enumerable.Range(1, (int)(p.Hi - p.Lo)).Where(i => p.Log.Concerns(p.Lo + i))
                .Select(i => SentAt(p.Log.Log.Id, p.Lo + i))).OfType<Reference.Sent>().ToList();
            if (looked.Find(s => !meant(s)) is { } other) throw Wrong($"{user} marked {verb} and number {other.Number} was marked with it");
            foreach (var sent in looked)
            {
                done.Add(sent.Number);
                if (verb != MarkVerb.Unread && (selector.All || selector.UpTo is not null) && sent.Ended != Reference.End.None
                    && reference.Reaches(user, sent) is not null)
                {
                    person.Covered.Add(sent.Number);
                }
            }
            var visible = reference.Visible(user).Where(meant).ToList();
            foreach (var sent in visible.Intersect(looked))
            {
                if (verb == MarkVerb.Read) person.Read.Add(sent.Number);
                if (verb == MarkVerb.Unread) person.Read.Remove(sent.Number);
                else person.Received.Add(sent.Number);
            }
            if (mark.Task.Result.Totals.Unread != reference.Unread(user))
            {
                throw Wrong($"{user} marked {verb} and was told {mark.Task.Result.Totals.Unread} unread, the reference says " +
                    $"{reference.Unread(user)}: {TotalsOf(user)}; {Shown(user)}");
            }
            if (from is null && mark.Rest is null && visible.Find(s => !done.Contains(s.Number)) is { } left)
            {
                throw Wrong($"{user} marked {verb}, and number {left.Number} was left out");
            }
            if (from is null && mark.Rest is not null && most == int.MaxValue)
            {
                throw Wrong($"{user} marked {verb} without a bound, and it was not done at once");
            }
        });
    }

    /// <summary>The device that asked hears what came of it.</summary>
    static void Answer((Session Session, ISessionPort Port)? origin, Task<TotalsBy> done)
    {
        if (done.IsCompletedSuccessfully) origin?.Session.Answer(Messages.Done(null, done.Result.Totals));
    }

    /// <summary>Acks that reached the ledger.</summary>
    internal void PostAcks(string user, IReadOnlyList<AckedRun> acked, bool handled, string device) =>
        Post(new ReceivedCommand("main", user, acked, handled, device), _ => { }, _ =>
        {
            foreach (var (logId, run) in acked)
            {
                for (long o = run.From; o <= run.To; o++)
                {
                    if (SentAt(logId, o) is { } sent && sent.Position > reference.Floor && reference.Reaches(user, sent) is not null
                        && !reference.Of(user).Covered.Contains(sent.Number))
                    {
                        reference.Of(user).Received.Add(sent.Number);
                    }
                }
            }
        });

    void Withdraw()
    {
        if (reference.All.Count == 0) return;
        var sent = Pick(reference.All);
        if (IdOf(sent) is not { } id) return;
        var withdraw = new WithdrawCommand("main", id);
        Post(withdraw, _ => { }, now =>
        {
            if (Sent(id) is { } meant && reference.Withdraw(now, meant) != withdraw.Task.Result.Changed)
            {
                throw Wrong($"withdrawing {meant.Number} was answered {withdraw.Task.Result}");
            }
        });
    }

    void Take()
    {
        var candidates = reference.All.Where(s => s.TakeFor is not null && s.Ended == Reference.End.None).TakeLast(6).ToList();
        if (candidates.Count == 0 || IdOf(Pick(candidates)) is not { } id) return;
        PostTake(Pick(Users), id, Chance(0.7), null);
    }

    internal void PostTake(string user, NotificationId id, bool take, (Session Session, ISessionPort Port)? origin)
    {
        var command = new TakeCommand("main", user, id, take);
        Post(command, t => Answer(origin, t), now =>
        {
            if (Sent(id) is not { } sent) return;
            if (!reference.IsVisible(user, sent)) throw Wrong($"{user} could take or release {sent.Number}, which is not visible");
            if (take && sent.TakenBy != user) reference.Take(now, user, sent);
            else if (!take) reference.Release(now, sent);
            if (command.Task.Result.Totals.Unread != reference.Unread(user))
            {
                throw Wrong($"{user} {(take ? "took" : "released")} {sent.Number} and was told {command.Task.Result.Totals.Unread} " +
                    $"unread, the reference says {reference.Unread(user)}; read {reference.Of(user).Read.Contains(sent.Number)}, muted " +
                    $"{reference.IsMuted(user, sent)}, taken by {sent.TakenBy}, {string.Join(' ', sent.To)} except " +
                    $"{string.Join(' ', sent.Except)}");
            }
        });
    }

    void Mute()
    {
        var user = Pick(Users);
        bool isType = Chance(0.5), mute = Chance(0.6);
        var text = isType ? Pick(Types) : Pick(Subjects);
        Post(new MuteCommand("main", user, isType, text, mute), _ => { }, _ => reference.Mute(user, isType, text, mute));
    }
}
