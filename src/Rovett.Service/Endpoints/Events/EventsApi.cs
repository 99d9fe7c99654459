using System.Buffers.Text;
using System.Globalization;
using System.Text.Json;
using Rovett.Core.Events;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Events;
using Rovett.Core.Rules;
using Rovett.Core.Store;
using Rovett.Service.Credentials;
using Rovett.Service.Events;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Meters;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Events;

/// <summary>Events: rules make notifications of them.</summary>
public sealed class EventsApi(LedgerPump ledger, SqlHistory history, RulesInForce rules, EventChecks checks, UsageLimits limits,
    ServiceMeters meters)
{
    const int UsualPage = 50, MaxEvents = 1000, MaxBodyBytes = 4 << 20;
    const string Batch = "application/cloudevents-batch", Single = "application/cloudevents", Lines = "application/x-ndjson";

    /// <summary>Publishes events.</summary>
    /// <remarks>CloudEvents 1.0 over HTTP, in binary, structured or batch mode, or one a line (NDJSON); at most 1,000 and 4 MiB. An event
    /// is recognised by its source and id: a repeat is answered the same. Several are taken in order; the answer has a result for
    /// each. Rules act with the rights of whoever loaded them.</remarks>
    public async Task<object> PublishEvents(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        bool dryRun = Json.IsDryRun(context);
        Json.AllowBody(context, MaxBodyBytes);
        await limits.HoldEarly(context, space, key.Stored.Id);
        var (given, isOne) = await Read(context);
        var answers = new EventResultAnswer[given.Count];
        var taken = new List<(int Index, EvaluatedEvent Event)>();
        var inForce = await rules.Of(space);
        var setting = rules.Setting(space);
        // Rules take their time as well.
        using var place = dryRun ? default(SendGate.Place?) : await limits.Sending.Enter(context, space.Name, given.Count);
        Problem? after = null; // what stopped the rest: order is kept
        for (int i = 0; i < given.Count; i++)
        {
            var refusal = after ?? given[i].Refusal;
            if (refusal is null)
            {
                try
                {
                    var found = given[i].Event!;
                    key.RequireMayPublish(found.Type, found.Source);
                    checks.RequireFits(space, found);
                    refusal = after = limits.TakeSend(context, space, key.Stored.Id, key.Stored.Name);
                    if (refusal is null)
                    {
                        var evaluated = RulesInForce.Evaluate(inForce, found, setting);
                        limits.CountMore(space, key.Stored.Id, evaluated.Results.Sum(r => r.Drafts.Count) - 1);
                        taken.Add((i, evaluated));
                    }
                }
                catch (ProblemException refused)
                {
                    refusal = refused.Problem;
                }
            }
            if (refusal is not null) answers[i] = new EventResultAnswer { Problem = ProblemAnswer.Of(refusal) };
            if (isOne && refusal is not null) throw refusal.ToException();
            await Parts.MakeWay(i);
        }
        if (dryRun)
        {
            foreach (var (index, one) in taken) answers[index] = new EventResultAnswer { Outcome = Dry(one) };
        }
        else
        {
            await Store(space, taken, setting, answers, isOne);
            Count(space, answers);
        }
        if (isOne) return answers[0].Outcome!;
        int refusals = answers.Count(a => a.Problem is not null);
        return new EventResultList { Taken = answers.Length - refusals, Refused = refusals, Results = answers };
    }

    void Count(SpaceRuntime space, EventResultAnswer[] answers)
    {
        foreach (var group in answers.Where(a => a.Outcome is not null).GroupBy(a => a.Outcome! switch
        {
            { Repeated: true } => "repeated",
            { SetAside: not null } => "set_aside",
            { Matched.Count: 0 } => "unmatched",
            _ => "matched",
        }))
        {
            meters.TookEvents(space.Name, group.Key, group.Count());
        }
    }

    async Task Store(SpaceRuntime space, List<(int Index, EvaluatedEvent Event)> taken, RuleSetting setting,
        EventResultAnswer[] answers, bool isOne)
    {
        for (int from = 0; from < taken.Count;)
        {
            int to = Parts.End(taken, from, Parts.OneByOne, t => t.Event.Results.Sum(r => r.Drafts.Count));
            try
            {
                await StorePart(space, taken, from, to, setting, answers, isOne);
            }
            catch (Exception failed) when (!isOne
                && (failed is ProblemException { Problem.Status: 503 } || LedgerPump.IsStoreFailure(failed)))
            {
                // What follows would overtake it.
                var problem = ProblemAnswer.Of((failed as ProblemException)?.Problem ?? LedgerPump.StoreFailed(failed));
                foreach (var (index, _) in taken.Skip(from)) answers[index] = new EventResultAnswer { Problem = problem };
                return;
            }
            from = to;
        }
    }

    async Task StorePart(SpaceRuntime space, List<(int Index, EvaluatedEvent Event)> taken, int from, int to, RuleSetting setting,
        EventResultAnswer[] answers, bool isOne)
    {
        var part = taken.GetRange(from, to - from);
        var stored = await ledger.Ask(new EventsCommand(space.Name, [.. part.Select(p => p.Event)], setting, space.Settings.KeepEventData));
        for (int i = 0; i < part.Count; i++)
        {
            if (isOne && stored[i].Refusal is { } refusal) throw refusal.ToException();
            if (stored[i].Outcome is { IsRepeated: false }) rules.Count(space, part[i].Event);
            answers[part[i].Index] = stored[i] is { Refusal: { } refused }
                ? new EventResultAnswer { Problem = ProblemAnswer.Of(refused) }
                : new EventResultAnswer { Outcome = Answer(stored[i].Outcome!) };
        }
    }

    static EventOutcomeAnswer Dry(EvaluatedEvent one) => new()
    {
        DryRun = true,
        Matched = [.. one.Results.Select(r => r.Rule.Name)],
        Notifications = [],
        Repeated = false,
    };

    /// <summary>What came of an event, as it is answered.</summary>
    internal static EventOutcomeAnswer Answer(EventOutcome outcome) => new()
    {
        Matched = outcome.Matched,
        Notifications = [.. outcome.Notifications.Select(n => new MadeAnswer { Id = n.Id.ToString(), Rule = n.Rule })],
        Gathering = outcome.Gatherings.Count == 0 ? null
            : [.. outcome.Gatherings.Select(g => new GatheringAnswer { Id = g.Id.ToString(), Rule = g.Rule, Until = g.Until })],
        SetAside = outcome.SetAside is not { } number ? null : new EventAsideAnswer
        {
            Number = number,
            Rules = [.. outcome.Failed.Select(f => new FailedRuleAnswer { Rule = f.Rule, Reason = f.Reason })],
        },
        Late = outcome.IsLate ? true : null,
        Repeated = outcome.IsRepeated,
        Nearest = outcome.Nearest,
    };

    readonly record struct GivenEvent(IncomingEvent? Event, Problem? Refusal);

    static async Task<(List<GivenEvent> Events, bool IsOne)> Read(HttpContext context)
    {
        var type = context.Request.ContentType?.Split(';')[0].Trim().ToLowerInvariant() ?? "";
        var trace = context.Request.Headers.TryGetValue("traceparent", out var parent) && parent.Count == 1 && IsTrace(parent[0]!)
            ? parent[0] : null;
        if (type == Lines) return (await ReadLines(context, trace), false);
        if (type.StartsWith(Batch, StringComparison.Ordinal))
        {
            RequireJsonFormat(type);
            using var batch = await Json.Read(context);
            if (batch.RootElement.ValueKind != JsonValueKind.Array)
            {
                throw Problem.Invalid([new FieldError("(body)", "must be a JSON array of events")]).ToException();
            }
            RequireFew(batch.RootElement.GetArrayLength());
            return ([.. batch.RootElement.EnumerateArray().Select(e => Given(() => EventReader.Structured(e.Clone(), trace)))], false);
        }
        if (type.StartsWith(Single, StringComparison.Ordinal))
        {
            RequireJsonFormat(type);
            using var one = await Json.Read(context);
            return ([new GivenEvent(EventReader.Structured(one.RootElement.Clone(), trace), null)], true);
        }
        if (EventReader.IsBinary(context.Request.Headers))
        {
            return ([new GivenEvent(EventReader.Binary(context.Request.Headers, await Json.Bytes(context), trace), null)], true);
        }
        throw new Problem(415, "not-an-event", "Not a CloudEvent",
            $"The request has no ce- headers, and its Content-Type is '{(type.Length > 60 ? type[..60] + "…" : type)}'.",
            $"Send {Single}+json, {Batch}+json or {Lines}, or the attributes as ce- headers (CloudEvents 1.0).").ToException();
    }

    static void RequireJsonFormat(string type)
    {
        if (type is Single or Batch or (Single + "+json") or (Batch + "+json")) return;
        throw new Problem(415, "not-an-event", "Not a CloudEvent", $"The format '{type}' is not supported.",
            $"Use the JSON format: {Single}+json or {Batch}+json.").ToException();
    }

    static bool IsTrace(string text) => text.Length is >= 55 and <= 128 && text.All(c => char.IsAsciiHexDigitLower(c) || c == '-');

    static void RequireFew(int count)
    {
        if (count is 0 or > MaxEvents)
        {
            throw Problem.Invalid([new FieldError("(body)", $"has {count} events; send 1 to {MaxEvents} in a request")]).ToException();
        }
    }

    static GivenEvent Given(Func<IncomingEvent> read)
    {
        try
        {
            return new GivenEvent(read(), null);
        }
        catch (ProblemException refused)
        {
            return new GivenEvent(null, refused.Problem);
        }
    }

    static async Task<List<GivenEvent>> ReadLines(HttpContext context, string? trace)
    {
        var events = new List<GivenEvent>();
        var reader = new LineReader(context.Request.BodyReader, IncomingEvent.MaxBytes + 4096);
        while (await reader.Next(context.RequestAborted) is { } line)
        {
            if (line.Length == 0) continue;
            events.Add(Given(() =>
            {
                using var document = Json.Parse(line);
                return EventReader.Structured(document.RootElement.Clone(), trace);
            }));
            if (events.Count > MaxEvents) break;
        }
        RequireFew(events.Count);
        return events;
    }

    /// <summary>Lists events that were taken.</summary>
    /// <remarks>Newest first. <c>Link</c> leads to the next page. With <c>source</c> and <c>id</c>, shows that event instead.
    /// Events are kept as long as their notifications, and at least for 48 hours; those that no rule
    /// matched are not.</remarks>
    public Task<object> ListEvents(HttpContext context, Given<EventQuery> query)
    {
        if (query.Has("source") || query.Has("id")) return Task.FromResult<object>(ShowEvent(context, query));
        var (space, key) = context.KeyCaller();
        (StoredTime, string, string)? before = null;
        if (query.Value.Page is { } page)
        {
            try
            {
                var parts = JsonSerializer.Deserialize(Base64Url.DecodeFromChars(page), EventsJson.Default.StringArray)!;
                before = (new StoredTime(long.Parse(parts[0], CultureInfo.InvariantCulture)), parts[1], parts[2]);
            }
            catch (Exception error) when (error is FormatException or JsonException or IndexOutOfRangeException or OverflowException)
            {
                query.Wrong("page", "is not from a 'next' link; start again without it");
            }
        }
        query.Sound();
        var (type, subject, limit) = (query.Value.Type, query.Value.Subject, query.Value.Limit ?? UsualPage);
        var found = history.Events(space.Id, new EventSearch { Before = before, Limit = limit, Type = type, Subject = subject });
        if (found.Next is { } next)
        {
            var sealedPage = Base64Url.EncodeToString(JsonSerializer.SerializeToUtf8Bytes(
                [next.Time.Micros.ToString(CultureInfo.InvariantCulture), next.Source, next.Id], EventsJson.Default.StringArray));
            context.Response.Headers.Link = $"<{space.PathPrefix}/v1/events?{(type is null ? "" : $"type={Uri.EscapeDataString(type)}&")}" +
                $"{(subject is null ? "" : $"subject={Uri.EscapeDataString(subject)}&")}limit={limit}&page={sealedPage}>; rel=\"next\"";
        }
        return Task.FromResult<object>(new EventPage { Events = [.. found.Found.Select(row => Answer(row, key))] });
    }

    EventAnswer ShowEvent(HttpContext context, Given<EventQuery> query)
    {
        var (source, id) = (query.Value.Source, query.Value.Id);
        if (string.IsNullOrEmpty(source)) query.Wrong("source", "is missing; name the event's source");
        if (string.IsNullOrEmpty(id)) query.Wrong("id", "is missing; name the event's id");
        query.Sound();
        var row = history.Event(context.KeyCaller().Space.Id, source!, id!) ?? throw new Problem(404, "unknown-event", "No such event",
            "No event with this source and id was taken, or no rule matched it, or it is no longer kept.",
            "Check both; an unmatched event leaves nothing behind.").ToException();
        return Answer(row, context.KeyCaller().Key);
    }

    static EventAnswer Answer(EventRow row, ApiKey key) => new()
    {
        Source = row.Source,
        Id = row.Id,
        Type = row.Type,
        Subject = row.Subject,
        Trace = row.Trace,
        Time = row.Time,
        Outcome = Answer(EventOutcome.Parse(row.Outcome)),
        Event = row.Content is { } content && key.Has("admin") ? JsonElement.Parse(content) : null,
    };
}
