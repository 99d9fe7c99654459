using System.Globalization;
using System.Text.Json;
using Rovett.Core.Ledgers.Commands.Events;
using Rovett.Core.Store;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Events;
using Rovett.Service.Http;
using Rovett.Service.Intakes;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Events;

/// <summary>What was set aside because it would fail again: listed, retried, dropped.</summary>
public sealed class SetAsideApi(LedgerPump ledger, SqlHistory history, RulesInForce rules, IntakeList intakes,
    AuditTrail audit)
{
    const int DefaultLimit = 100, MaxNumbers = 1000, MaxShown = 100;

    /// <summary>Lists what is set aside.</summary>
    /// <remarks>Events for which a rule failed, what intakes received that could not be taken as an event, notifications of gatherings and
    /// missed deadlines that could not be sent, and due work that failed; oldest first.</remarks>
    public Task<SetAsideList> ListSetAside(HttpContext context, Given<SetAsideQuery> query)
    {
        var (after, limit) = (query.Sound().After ?? 0, query.Value.Limit ?? DefaultLimit);
        var space = context.KeyCaller().Space;
        return Task.FromResult(new SetAsideList
        {
            Items = [.. history.SetAsideAfter(space.Id, after, limit).Select(Answer)],
            Count = history.CountSetAside(space.Id),
        });
    }

    /// <summary>Shows something that is set aside.</summary>
    public Task<SetAsideItem> ShowSetAside(HttpContext context)
    {
        long number = NumberIn(context);
        return Task.FromResult(history.SetAsideAfter(context.KeyCaller().Space.Id, number - 1, 1) is [var row] && row.Number == number
            ? Answer(row)
            : throw Unknown().ToException());
    }

    static SetAsideItem Answer(SetAsideRow row) => new()
    {
        Number = row.Number,
        Time = row.Time,
        Kind = NameOf(row.Kind),
        Reason = row.Why,
        Detail = JsonElement.Parse(row.Detail),
    };

    /// <summary>The word for a kind.</summary>
    internal static string NameOf(AsideKind kind) => kind switch
    {
        AsideKind.Event => "event",
        AsideKind.Gathering => "gathering",
        AsideKind.Otherwise => "otherwise",
        AsideKind.Intake => "intake",
        _ => "due",
    };

    /// <summary>Retries something that is set aside.</summary>
    /// <remarks>For an event, only the rules that failed are retried, in the version in effect; with <c>data</c>, on that data in place
    /// of the event's own. The event's outcome is then marked <c>late</c>. What an intake received is read again, or <c>event</c> is
    /// taken in its place.</remarks>
    public async Task<RetryAnswer> RetrySetAside(HttpContext context, Given<RetryRequest> body)
    {
        var (space, key) = context.KeyCaller();
        var given = body.Sound();
        var result = await Retry(space, NumberIn(context), given.Data?.Clone(), given.Event?.Clone()) ?? throw Unknown().ToException();
        audit.Note(space.Name, key.Actor, "set-aside.retried", NumberIn(context).ToString(CultureInfo.InvariantCulture),
            json => json.WriteBoolean("done", result.Reason is null));
        return Answer(result);
    }

    Task<RetryResult?> Retry(SpaceRuntime space, long number, JsonElement? data, JsonElement? instead)
    {
        if (history.SetAsideAfter(space.Id, number - 1, 1) is [{ Kind: AsideKind.Intake } row] && row.Number == number)
        {
            if (data is not null) throw OnlyFor("data", "an event for which a rule failed; give the whole event as 'event'");
            return RetryHandedOver(space, row, instead);
        }
        if (instead is not null) throw OnlyFor("event", "something an intake received");
        return ledger.Ask(new RetryCommand(space.Name, number, rules.Setting(space), data));
    }

    static ProblemException OnlyFor(string field, string what) =>
        Problem.Invalid([new FieldError(field, $"can be given only for {what}")]).ToException();

    async Task<RetryResult?> RetryHandedOver(SpaceRuntime space, SetAsideRow row, JsonElement? instead)
    {
        var detail = JsonElement.Parse(row.Detail);
        if (AsideDetail.Read(detail) is { } kept)
        {
            return instead is { } other ? await intakes.Retry(space, null, row.Number, RawEvent.Of(other))
                : await intakes.Retry(space, kept.Intake, row.Number, kept.Raw);
        }
        if (instead is { } given) return await intakes.Retry(space, null, row.Number, RawEvent.Of(given));
        if (detail.TryGetProperty("intake", out _))
        {
            return new RetryResult(row.Number, "it was too large to be kept whole; give an event to take in its place ('event')", []);
        }
        await ledger.Ask(new DropSetAsideCommand(space.Name, row.Number)); // its content was erased with a person
        return new RetryResult(row.Number, null, []);
    }

    static RetryAnswer Answer(RetryResult result) => new()
    {
        Number = result.Number,
        Done = result.Reason is null,
        Reason = result.Reason,
        Notifications = [.. result.Notifications.Select(n => n.ToString())],
    };

    /// <summary>Retries several, or everything.</summary>
    public async Task<RetryList> RetryMany(HttpContext context, Given<RetryManyRequest> body)
    {
        var (space, key) = context.KeyCaller();
        int done = 0, failed = 0;
        var failures = new List<RetryAnswer>();
        foreach (long number in Numbers(space, body))
        {
            if (await Retry(space, number, null, null) is not { } result) continue;
            if (result.Reason is null) done++;
            else if (++failed <= MaxShown) failures.Add(Answer(result));
        }
        audit.Note(space.Name, key.Actor, "set-aside.retried", "several", json =>
        {
            json.WriteNumber("done", done);
            json.WriteNumber("failed", failed);
        });
        return new RetryList { Done = done, Failed = failed, Failures = failures };
    }

    /// <summary>Drops something that is set aside.</summary>
    public async Task<NoAnswer> DropSetAside(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        long number = NumberIn(context);
        if (!await ledger.Ask(new DropSetAsideCommand(space.Name, number))) throw Unknown().ToException();
        audit.Note(space.Name, key.Actor, "set-aside.dropped", number.ToString(CultureInfo.InvariantCulture));
        return await NoAnswer.To(context);
    }

    /// <summary>Drops several, or everything.</summary>
    public async Task<DropAnswer> DropMany(HttpContext context, Given<RetryManyRequest> body)
    {
        var (space, key) = context.KeyCaller();
        int dropped = 0;
        foreach (long number in Numbers(space, body))
        {
            if (await ledger.Ask(new DropSetAsideCommand(space.Name, number))) dropped++;
        }
        audit.Note(space.Name, key.Actor, "set-aside.dropped", "several", json => json.WriteNumber("dropped", dropped));
        return new DropAnswer { Dropped = dropped };
    }

    /// <summary>The numbers given; without any everything that is set aside now.</summary>
    List<long> Numbers(SpaceRuntime space, Given<RetryManyRequest> body)
    {
        var numbers = new List<long>();
        if (body.Value.Numbers is { } given && given.ValueKind != JsonValueKind.Null)
        {
            if (given.ValueKind != JsonValueKind.Array || given.GetArrayLength() > MaxNumbers
                || given.EnumerateArray().Any(n => n.ValueKind != JsonValueKind.Number || !n.TryGetInt64(out _)))
            {
                body.Wrong("numbers", $"must be an array of at most {MaxNumbers} numbers");
            }
            else numbers.AddRange(given.EnumerateArray().Select(n => n.GetInt64()));
            body.Sound();
            return numbers;
        }
        body.Sound();
        for (long after = 0; history.SetAsideAfter(space.Id, after, MaxNumbers) is { Count: > 0 } page; after = page[^1].Number)
        {
            numbers.AddRange(page.Select(r => r.Number));
        }
        return numbers;
    }

    static long NumberIn(HttpContext context) =>
        long.TryParse((string?)context.Request.RouteValues["number"], NumberStyles.None, CultureInfo.InvariantCulture, out long number)
            ? number : throw Unknown().ToException();

    static Problem Unknown() =>
        new(404, "unknown-set-aside", "Nothing set aside by this number", "It was retried or dropped before, or never existed.",
        "List them: GET /v1/set-aside.");
}
