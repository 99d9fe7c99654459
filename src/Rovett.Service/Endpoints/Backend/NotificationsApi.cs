using System.Security.Cryptography;
using System.Text.Json;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Options;
using Rovett.Service.Outbound;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>Sending, withdrawing and looking at notifications. Sending reads and writes its JSON by hand: it is the path
/// that every notification takes.</summary>
public sealed class NotificationsApi(LedgerPump ledger, SqlHistory history, SessionRegistry sessions, UsageLimits limits,
    OutboundTargets outbound, ServiceClock clock, RovettOptions options)
{
    const int MaxOrigins = 1000, MaxSends = 1000, MaxBulkBytes = 4 << 20, MaxLineBytes = 64 * 1024;

    /// <summary>Sends a notification, or several.</summary>
    /// <remarks>It is stored for everyone it reaches and sent to those who are connected. With <c>Idempotency-Key</c>, a
    /// repeat of the same body sends nothing and answers the same. An array, or one a line (<c>application/x-ndjson</c>), at most
    /// 1,000, is stored in order; the answer has a result for each, and a refused one does not affect the others.</remarks>
    public async Task Send(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        await limits.HoldEarly(context, space, key.Stored.Id);
        if (await ManyIn(context) is { } many)
        {
            await SendMany(context, space, key, many);
            return;
        }
        if (limits.TakeSend(context, space, key.Stored.Id, key.Stored.Name) is { } refused) throw refused.ToException();
        bool dryRun = Json.IsDryRun(context);
        byte[] bytes = [];
        using var body = await Json.Read(context, b => bytes = b, options.MaxBodyBytes);
        var draft = NotificationReader.Read(body.RootElement, space.TermsOf(options.ReceiptsOf), out bool isStored);
        RequireMaySend(space, key, draft);
        using var place = await limits.Sending.Enter(context, space.Name);
        if (isStored) await Store(context, space, key, draft, dryRun, bytes);
        else await Pass(context, space, draft, dryRun);
    }

    /// <summary>One of several, as it was sent.</summary>
    readonly record struct Sent(byte[]? Line, JsonElement? Element);

    /// <summary>Several notifications in one body; null: it has one. Lines are not parsed yet: that takes long for many,
    /// and is done once the request has its place among the sends.</summary>
    static async Task<List<Sent>?> ManyIn(HttpContext context)
    {
        Json.AllowBody(context, MaxBulkBytes); // before the first byte is read
        bool areLines = context.Request.ContentType?.StartsWith("application/x-ndjson", StringComparison.OrdinalIgnoreCase) == true;
        if (!areLines && !await BeginsWithArray(context)) return null;
        if (context.Request.Headers.ContainsKey("Idempotency-Key"))
        {
            throw Problem.Invalid([new FieldError("Idempotency-Key",
                "can't stand with several notifications; send events, which are recognised by their ids, or one at a time")]).ToException();
        }
        var many = new List<Sent>();
        if (areLines)
        {
            var reader = new LineReader(context.Request.BodyReader, MaxLineBytes);
            while (many.Count <= MaxSends && await reader.Next(context.RequestAborted) is { } line)
            {
                if (line.Length > 0) many.Add(new Sent(line, null));
            }
        }
        else
        {
            using var body = await Json.Read(context);
            many.AddRange(body.RootElement.EnumerateArray().Take(MaxSends + 1).Select(e => new Sent(null, e.Clone())));
        }
        return many.Count is > 0 and <= MaxSends ? many
            : throw Problem.Invalid([new FieldError("(body)",
                $"has {(many.Count == 0 ? "no" : $"more than {MaxSends}")} notifications; send 1 to {MaxSends} in a request")])
                .ToException();
    }

    static JsonElement? LineOf(byte[] line)
    {
        try
        {
            using var document = Json.Parse(line);
            return document.RootElement.Clone();
        }
        catch (ProblemException)
        {
            return null;
        }
    }

    static async Task<bool> BeginsWithArray(HttpContext context)
    {
        var reader = context.Request.BodyReader;
        for (; ; )
        {
            var result = await reader.ReadAsync(context.RequestAborted);
            foreach (var segment in result.Buffer)
            {
                int first = segment.Span.IndexOfAnyExcept(" \t\r\n"u8);
                if (first < 0) continue;
                bool isArray = segment.Span[first] == (byte)'[';
                reader.AdvanceTo(result.Buffer.Start);
                return isArray;
            }
            bool isEmpty = result.IsCompleted;
            reader.AdvanceTo(result.Buffer.Start, isEmpty ? result.Buffer.Start : result.Buffer.End);
            if (isEmpty) return false;
        }
    }

    async Task SendMany(HttpContext context, SpaceRuntime space, ApiKey key, List<Sent> many)
    {
        if (Json.IsDryRun(context))
        {
            throw Problem.Invalid([new FieldError("dryRun", "can't stand with several notifications; try one at a time")]).ToException();
        }
        var problems = new Problem?[many.Count];
        var drafts = new List<(int Index, Draft Draft)>();
        var results = new SendOutcome?[many.Count];
        using (await limits.Sending.Enter(context, space.Name, many.Count))
        {
            Problem? limited = null; // the key has sent as many as it may: what follows is not looked at
            for (int i = 0; i < many.Count; i++)
            {
                if (limited is not null)
                {
                    problems[i] = limited;
                    continue;
                }
                try
                {
                    var draft = DraftOf(many[i].Line is { } line ? LineOf(line) : many[i].Element, space, key);
                    problems[i] = limited = limits.TakeSend(context, space, key.Stored.Id, key.Stored.Name);
                    if (limited is null) drafts.Add((i, draft));
                }
                catch (ProblemException refused)
                {
                    problems[i] = refused.Problem;
                }
                await Parts.MakeWay(i);
            }
            await StoreMany(space, key, drafts, results);
        }
        await Json.Write(context, 200, json => WriteResults(json, results, problems));
    }

    /// <summary>Stores them in parts, all of which are asked for at once: without others they share commits.</summary>
    /// <exception cref="Exception">Nothing could be stored: why not.</exception>
    async Task StoreMany(SpaceRuntime space, ApiKey key, List<(int Index, Draft Draft)> drafts, SendOutcome?[] results)
    {
        Func<EntryRow, bool>? mayReplace = key.IsNarrowed ? entry => MaySend(key, entry) : null;
        var parts = new List<(int From, int To)>();
        var commands = new List<SendManyCommand>();
        for (int from = 0, to; from < drafts.Count; from = to)
        {
            to = Parts.End(drafts, from, Parts.AllAtOnce, d => Math.Max(1, d.Draft.To.Count / 2)); // each named user costs a few rows
            parts.Add((from, to));
            commands.Add(new SendManyCommand(space.Name, drafts[from..to].ConvertAll(d => d.Draft), mayReplace, commands.LastOrDefault()));
        }
        foreach (var ((from, to), answer) in parts.Zip(await ledger.AskAll(commands)))
        {
            try
            {
                var outcomes = await answer;
                for (int i = from; i < to; i++) results[drafts[i].Index] = outcomes[i - from];
            }
            catch (Exception failed) when (from > 0 && (failed is ProblemException || LedgerPump.IsStoreFailure(failed)))
            {
                var problem = (failed as ProblemException)?.Problem ?? LedgerPump.StoreFailed(failed);
                for (int i = from; i < to; i++) results[drafts[i].Index] = new SendOutcome(null, problem);
            }
        }
    }

    Draft DraftOf(JsonElement? root, SpaceRuntime space, ApiKey key)
    {
        if (root is null)
        {
            throw new Problem(400, "malformed-json", "The body is not JSON", "The line is not JSON in UTF-8, or names a member twice.",
                "Send one JSON object a line.").ToException();
        }
        var draft = NotificationReader.Read(root.Value, space.TermsOf(options.ReceiptsOf), out bool isStored);
        if (!isStored) throw Problem.Invalid([new FieldError("store", "can't be false among several; send it by itself")]).ToException();
        RequireMaySend(space, key, draft);
        return draft;
    }

    void RequireMaySend(SpaceRuntime space, ApiKey key, Draft draft)
    {
        key.RequireMaySend(draft.Traits.Type, draft.To);
        foreach (var what in draft.Deadlines.SelectMany(d => d.Otherwise))
        {
            if (what is OtherwiseNotification other) key.RequireMaySend(other.Draft.Traits.Type, other.Draft.To, "deadlines[].otherwise.");
            else key.RequireMayCallOut("deadlines[].otherwise");
        }
        outbound.Require(space, draft);
    }

    static void WriteResults(Utf8JsonWriter json, SendOutcome?[] results, Problem?[] problems)
    {
        int sent = results.Count(r => r?.Result is not null);
        json.WriteStartObject();
        json.WriteNumber("sent", sent);
        json.WriteNumber("refused", results.Length - sent);
        json.WriteStartArray("results");
        for (int i = 0; i < results.Length; i++)
        {
            json.WriteStartObject();
            if (results[i]?.Result is { } stored)
            {
                json.WriteString("id", stored.Id.ToString());
                json.WriteNumber("position", stored.Position.Value);
            }
            else
            {
                json.WriteStartObject("problem");
                (results[i]?.Refusal ?? problems[i]!).WriteMembers(json);
                json.WriteEndObject();
            }
            json.WriteEndObject();
        }
        json.WriteEndArray();
        json.WriteEndObject();
    }

    async Task Store(HttpContext context, SpaceRuntime space, ApiKey key, Draft draft, bool dryRun, byte[] bytes)
    {
        var result =
            await ledger.Ask(
            new SendCommand(space.Name, draft, IdempotencyOf(context, key, bytes), dryRun, OriginOf(context, space),
            key.IsNarrowed ? entry => MaySend(key, entry) : null));
        var names = new NearAddresses(history, space);
        await Json.Write(context, dryRun || result.Repeated ? 200 : 201, json =>
        {
            json.WriteStartObject();
            if (dryRun) json.WriteBoolean("dryRun", true);
            else
            {
                json.WriteString("id", result.Id.ToString());
                json.WriteNumber("position", result.Position.Value);
            }
            json.WriteStartArray("reach");
            foreach (var reach in result.Reach) names.Write(json, reach);
            json.WriteEndArray();
            if (!dryRun) json.WriteBoolean("repeated", result.Repeated);
            json.WriteEndObject();
        });
    }

    /// <summary>An ephemeral notification: for those who are connected, kept by nobody.</summary>
    async Task Pass(HttpContext context, SpaceRuntime space, Draft draft, bool dryRun)
    {
        if (context.Request.Headers.ContainsKey("Idempotency-Key"))
        {
            throw Problem.Invalid(
                [new FieldError("Idempotency-Key",
                "can't stand with \"store\": false; nothing of it is kept that a repeat could be known by")]).ToException();
        }
        var reached = dryRun ? (await ledger.Ask(new SendCommand(space.Name, draft, null, dryRun: true))).Reach
            : await ledger.Ask(new EphemeralCommand(space.Name, draft));
        var names = new NearAddresses(history, space);
        await Json.Write(context, dryRun ? 200 : 202, json =>
        {
            json.WriteStartObject();
            if (dryRun) json.WriteBoolean("dryRun", true);
            json.WriteBoolean("stored", false);
            json.WriteStartArray("reach");
            foreach (var reach in reached) names.Write(json, reach with { Stored = 0 });
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary>Withdraws a notification.</summary>
    /// <remarks>It leaves every inbox and screen. Asking again changes nothing and answers what it is.</remarks>
    public async Task<WithdrawAnswer> Withdraw(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        if (!NotificationId.TryParse((string?)context.Request.RouteValues["id"], out var id)) throw WithdrawCommand.Unknown().ToException();
        // What it may not send, it may not take back; and does not learn of.
        if (key.IsNarrowed && !(history.ById(space.Id, id) is { } found && MaySend(key, found.Entry)))
        {
            throw WithdrawCommand.Unknown().ToException();
        }
        var result = await ledger.Ask(new WithdrawCommand(space.Name, id));
        return new WithdrawAnswer
        {
            Id = result.Id.ToString(),
            State = result.State,
            Time = result.Time,
            Position = result.Position?.Value,
            Changed = result.Changed,
        };
    }

    static bool MaySend(ApiKey key, EntryRow entry) => key.MaySend(entry.Traits.Type, entry.Addressing.To);

    /// <summary>The session that caused it (<c>Rovett-Session</c>); one that has ended meanwhile needs no leaving out.</summary>
    (UserState User, ISessionPort Session)? OriginOf(HttpContext context, SpaceRuntime space) =>
        context.Request.Headers.TryGetValue("Rovett-Session", out var id) && sessions.Find(id.ToString()) is { } session
        && session.Space == space ? session.Place : null;

    static Idempotency? IdempotencyOf(HttpContext context, ApiKey key, byte[] body)
    {
        if (!context.Request.Headers.TryGetValue("Idempotency-Key", out var values)) return null;
        var text = values.ToString();
        if (values.Count != 1 || text.Length is 0 or > 255 || text.Any(c => c is < ' ' or > '~'))
            throw Problem.Invalid([new FieldError("Idempotency-Key", "must be 1 to 255 printable ASCII characters")]).ToException();
        return new Idempotency($"{key.Stored.Id}\n{context.Request.PathBase}{context.Request.Path}\n{text}", SHA256.HashData(body));
    }

    /// <summary>Shows a notification.</summary>
    /// <remarks>With everyone it was addressed to, how many people have it in each state, and what became of it.</remarks>
    public Task<NotificationAnswer> ShowNotification(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var found = NotificationId.TryParse((string?)context.Request.RouteValues["id"], out var id) ? history.ById(space.Id, id) : null;
        if (found is null) throw WithdrawCommand.Unknown().ToException();
        return Task.FromResult(NotificationAnswers.Of(found, clock, history.Origins(space.Id, id, MaxOrigins)));
    }
}
