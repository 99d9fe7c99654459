using System.Globalization;
using System.Text;
using Rovett.Core.Addresses;
using Rovett.Core.Events;
using Rovett.Core.Ledgers.Commands.Events;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Notifications;
using Rovett.Core.Rules;
using Rovett.Core.Yaml;

namespace Rovett.Simulator;

/// <summary>Events: published several at a time, and published again after whatever happened since.</summary>
public sealed partial class World
{
    // For as long as repeats are recognised, whatever is done to the clock.
    static readonly TimeSpan Repeats = TimeSpan.FromHours(24);
    static readonly Rule AnyRule = ReadRule("");
    static readonly Rule[] GatherRules = [ReadRule("\"gather\":{\"within\":\"3s\"},"), ReadRule("\"gather\":{\"within\":\"5h\"},")];
    static readonly RuleSetting Setting = new(DateTimeOffset.UnixEpoch, TimeZoneInfo.Utc, _ => new TypeTerms(ReceiptLevel.Full));

    readonly List<SimEvent> published = [];
    int eventIds;

    sealed record SimEvent(EvaluatedEvent Evaluated, IReadOnlyList<(Draft Draft, int Number)> Drafts, TimeSpan Born)
    {
        /// <summary>The notifications made of it in this history; null: none yet.</summary>
        public NotificationId[]? Made { get; set; }
    }

    static Rule ReadRule(string more) => RuleReader.Read(Encoding.UTF8.GetBytes(
        $$$"""{"rules":[{"name":"any {{{more.Length}}}","event":"any",{{{more}}}"to":["everyone"],"notification":{"title":"t"}}]}"""),
        new List<RuleMistake>()).All[0];

    void Publish()
    {
        published.RemoveAll(e => clock.Elapsed - e.Born > Repeats);
        var batch = new List<SimEvent>();
        for (int i = random.Next(3); i >= 0; i--) batch.Add(published.Count > 0 && Chance(0.4) ? Pick(published) : NewEvent());
        long version = rulesSeen = RulesVersion;
        var command = new EventsCommand("main", [.. batch.Select(e => e.Evaluated with { Version = version })], Setting);
        Post(command, _ => { }, now =>
        {
            for (int i = 0; i < batch.Count; i++)
            {
                // Drafts made by an older version are made again, and the rules that are loaded here match nothing.
                if (version == rulesSeen || command.Task.Result[i].Outcome is { IsRepeated: true })
                {
                    Taken(batch[i], command.Task.Result[i], now);
                }
                else if (command.Task.Result[i].Outcome is not { Matched: [], Notifications: [], Gatherings: [] })
                {
                    throw Wrong($"event {batch[i].Evaluated.Event.Id} was not worked out again");
                }
            }
        });
    }

    /// <summary>The version that was in force when the command was carried out whose result is looked at.</summary>
    long rulesSeen;

    /// <summary>The version of the rules in force.</summary>
    long RulesVersion => disk.RulesUpTo(1, disk.FindSpace("main")!.Head)?.Position ?? 0;

    /// <summary>Open gatherings stay.</summary>
    void LoadRules()
    {
        byte[] document = """{"rules":[{"name":"other","event":"other","to":["everyone"],"notification":{"title":"t"}}]}"""u8.ToArray();
        var load = new PutRulesCommand("main", RuleReader.Read(document, []), document, null);
        Post(load, _ => { }, now =>
        {
            reference.LoadRules(now);
            rulesSeen = load.Task.Result.Position;
            if (load.Task.Result.Position != reference.Head)
            {
                throw Wrong($"the rules got version {load.Task.Result.Position}, the reference says {reference.Head}");
            }
        });
    }

    /// <summary>An open gathering is dropped by its id; one that has closed meanwhile is withdrawn like any notification.</summary>
    void WithdrawGathering()
    {
        if (reference.Gatherings.Count == 0) return;
        var id = Pick(reference.Gatherings).Id;
        var withdraw = new WithdrawCommand("main", id);
        Post(withdraw, _ => { }, now =>
        {
            if (reference.Gatherings.RemoveAll(g => g.Id == id) > 0) Counts.Dropped++;
            else if (Sent(id) is { } meant && reference.Withdraw(now, meant) != withdraw.Task.Result.Changed)
            {
                throw Wrong($"withdrawing {meant.Number} was answered {withdraw.Task.Result}");
            }
        });
    }

    SimEvent NewEvent()
    {
        if (Chance(0.3)) return NewGathered();
        var made = new List<(Draft Draft, int Number)>();
        for (int i = random.Next(3); i >= 0; i--)
        {
            var to = Addresses.Where(_ => Chance(0.2)).ToList();
            if (to.Count == 0) to.Add(Pick(Addresses));
            var except = Addresses.Where(a => a.Kind is AddressKind.User && !to.Contains(a) && Chance(0.1)).ToList();
            var traits = new NotificationTraits(Pick(Types), Chance(0.5) ? Pick(Subjects) : null, ReceiptLevel.Full, null);
            made.Add((new Draft(to, except, Encoding.UTF8.GetBytes($"\"n\":{drafts}"), traits), drafts++));
        }
        // One addressing is one item of a rule.
        made = [.. made.DistinctBy(d => d.Draft.Addressing.Lines)];
        var id = (eventIds++).ToString(CultureInfo.InvariantCulture);
        var happened = new IncomingEvent(new Dictionary<string, string> { ["id"] = id, ["source"] = "/sim", ["type"] = "any" }, null);
        var result = new RuleResult(AnyRule, [.. made.Select(d => new RuleDraft(d.Draft, [], true))], null);
        var found = new SimEvent(new EvaluatedEvent(happened, 0, [result]), made, clock.Elapsed);
        published.Add(found);
        return found;
    }

    void Taken(SimEvent one, EventAnswer answer, long now)
    {
        var id = one.Evaluated.Event.Id;
        if (answer.Outcome is not { } outcome) throw Wrong($"event {id} was refused: {answer.Refusal}");
        var made = outcome.Notifications.Select(n => n.Id).ToArray();
        if (outcome.IsRepeated)
        {
            if (one.Made is null || !one.Made.SequenceEqual([.. made, .. outcome.Gatherings.Select(g => g.Id)]))
            {
                throw Wrong($"the repeat of event {id} is answered otherwise");
            }
            Counts.Repeats++;
            return;
        }
        if (one.Made is not null) throw Wrong($"event {id} was taken twice");
        if (outcome.Gatherings is [var gathered])
        {
            one.Made = [gathered.Id];
            Gather(one, gathered.Id);
            return;
        }
        if (made.Length != one.Drafts.Count) throw Wrong($"event {id} made {made.Length} notifications, not {one.Drafts.Count}");
        for (int i = 0; i < made.Length; i++)
        {
            var (draft, number) = one.Drafts[i];
            var sent = reference.Send(now, draft.To, draft.Except, draft.Traits.Type, draft.Traits.Subject, null, null, null,
                AttendingNow(draft.Traits.Subject));
            numberOf[number] = sent.Number;
            if (numbers[made[i]] != number) throw Wrong($"event {id} made its notifications in another order");
        }
        one.Made = made;
        Counts.Events++;
    }

    /// <summary>An event of a rule that gathers: to few addresses and about few subjects, so that several come together.</summary>
    SimEvent NewGathered()
    {
        var rule = Pick(GatherRules);
        var to = Chance(0.3) ? Address.User(new UserId(Guest)) : Address.Role(Pick(Roles));
        List<Address> except = Chance(0.3) ? [Address.User(new UserId(Pick(Users.Where(u => u != Guest).ToList())))] : [];
        var traits = new NotificationTraits(Types[0], Chance(0.5) ? Subjects[0] : null, ReceiptLevel.Full, null);
        int number = drafts++;
        RuleDraft For(int count)
        {
            var exceptions = string.Join(',', except.Select(a => $"\"{a}\""));
            var about = traits.Subject is null ? "" : $"\"subject\":\"{traits.Subject}\",";
            var body = $$$"""{"to":["{{{to}}}"],"except":[{{{exceptions}}}],"type":"{{{traits.Type}}}",{{{about}}}"title":"{{{count}}}","data":{"n":{{{number}}}}}""";
            return new RuleDraft(new Draft([to], except, [], traits), Encoding.UTF8.GetBytes(body), true) { ForCount = For };
        }
        var id = (eventIds++).ToString(CultureInfo.InvariantCulture);
        var happened = new IncomingEvent(new Dictionary<string, string> { ["id"] = id, ["source"] = "/sim", ["type"] = "any" }, null);
        var found = new SimEvent(new EvaluatedEvent(happened, 0, [new RuleResult(rule, [For(1)], null)]), [(For(1).Draft, number)],
            clock.Elapsed);
        published.Add(found);
        return found;
    }

    void Gather(SimEvent one, NotificationId id)
    {
        var (draft, number) = one.Drafts[0];
        var rule = one.Evaluated.Results[0].Rule;
        var key = $"{rule.Name} {draft.To[0]} {draft.Traits.Subject}";
        var gathering = reference.Gatherings.Find(g => g.Key == key);
        if (gathering is null)
        {
            gathering = new Reference.Gathering
            {
                Key = key,
                Id = id,
                Closes = reference.DueNow + (long)rule.GathersFor!.Value.TotalMicroseconds,
                To = draft.To,
                Type = draft.Traits.Type,
                Subject = draft.Traits.Subject,
            };
            reference.Gatherings.Add(gathering);
        }
        if (gathering.Id != id) throw Wrong($"event {one.Evaluated.Event.Id} is in gathering {id}, not {gathering.Id}");
        gathering.Events++;
        gathering.Draft = number;
        gathering.Except.UnionWith(draft.Except);
        Counts.Events++;
    }

    /// <summary>A gathering closed: its notification has its id, its count and its newest draft.</summary>
    void Gathered(Reference.Gathering gathering, Reference.Sent sent)
    {
        numberOf[gathering.Draft] = sent.Number;
        if (!numbers.TryGetValue(gathering.Id, out int draft) || draft != gathering.Draft)
        {
            throw Wrong($"gathering {gathering.Id} did not close with its newest draft");
        }
        if (counts.GetValueOrDefault(gathering.Id) != gathering.Events)
        {
            throw Wrong($"gathering {gathering.Id} closed with {counts.GetValueOrDefault(gathering.Id)} events, not {gathering.Events}");
        }
        Counts.Gathered++;
    }

    readonly Dictionary<NotificationId, int> counts = []; // by the title of a gathering's notification
}
