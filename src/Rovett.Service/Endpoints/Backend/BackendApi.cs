using System.Security.Cryptography;
using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Delivery;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Sending;
using Rovett.Core.Ledgers.Commands.Sessions;
using Rovett.Core.Notifications;
using Rovett.Core.Store;
using Rovett.Core.Wire;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Diagnostics;
using Rovett.Service.Endpoints.Admin;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Options;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>What backends call, with an API key.</summary>
public sealed class BackendApi(LedgerPump ledger, SqlHistory history, SessionRegistry sessions,
    Origins origins, UsageLimits limits, ServiceInfo info, Faults faults, ServiceClock clock, RovettOptions options)
{
    /// <summary><c>POST /v1/notifications</c></summary>
    public async Task Send(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        limits.TakeSend(context, space, key.Stored.Id, key.Stored.Name);
        bool dryRun = context.Request.Query.TryGetValue("dryRun", out var dry)
            && (dry == "true" ? true : throw Problem.Invalid([new FieldError("dryRun", "must be true, or left out")]).ToException());
        byte[] bytes = [];
        using var body = await Json.Read(context, b => bytes = b);
        var draft = NotificationReader.Read(body.RootElement, options.ReceiptsOf, out bool isStored);
        key.RequireMaySend(draft.Traits.Type, draft.To);
        foreach (var deadline in draft.Deadlines)
        {
            if (deadline.Otherwise is { } otherwise) key.RequireMaySend(otherwise.Traits.Type, otherwise.To, "deadlines[].otherwise.");
        }
        await limits.Sending.Enter(context);
        try
        {
            await Send(context, space, key, draft, isStored, dryRun, bytes);
        }
        finally
        {
            limits.Sending.Leave();
        }
    }

    async Task Send(HttpContext context, SpaceRuntime space, ApiKey key, Draft draft, bool isStored, bool dryRun, byte[] bytes)
    {
        if (!isStored)
        {
            if (context.Request.Headers.ContainsKey("Idempotency-Key"))
            {
                throw Problem.Invalid(
                    [new FieldError("Idempotency-Key",
                    "can't stand with \"store\": false; nothing of it is kept that a repeat could be known by")]).ToException();
            }
            var reached = dryRun ? (await ledger.Ask(new SendCommand(space.Name, draft, null, dryRun: true))).Reach
                : await ledger.Ask(new EphemeralCommand(space.Name, draft));
            await Json.Write(context, dryRun ? 200 : 202, json =>
            {
                json.WriteStartObject();
                if (dryRun) json.WriteBoolean("dryRun", true);
                json.WriteBoolean("stored", false);
                json.WriteStartArray("reach");
                foreach (var reach in reached) WriteReach(json, space, reach with { Stored = 0 });
                json.WriteEndArray();
                json.WriteEndObject();
            });
            return;
        }
        var result =
            await ledger.Ask(
            new SendCommand(space.Name, draft, IdempotencyOf(context, key, bytes), dryRun, OriginOf(context, space),
            key.IsNarrowed ? entry => MaySend(key, entry) : null));
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
            foreach (var reach in result.Reach) WriteReach(json, space, reach);
            json.WriteEndArray();
            if (!dryRun) json.WriteBoolean("repeated", result.Repeated);
            json.WriteEndObject();
        });
    }

    /// <summary><c>DELETE /v1/notifications/{id}</c>: takes it back. Asking again harms nothing.</summary>
    public async Task Withdraw(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        if (!NotificationId.TryParse((string?)context.Request.RouteValues["id"], out var id)) throw WithdrawCommand.Unknown().ToException();
        // What it may not send, it may not take back; and does not learn of.
        if (key.IsNarrowed && !(history.ById(space.Id, id) is { } found && MaySend(key, found.Entry)))
        {
            throw WithdrawCommand.Unknown().ToException();
        }
        var result = await ledger.Ask(new WithdrawCommand(space.Name, id));
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteString("id", result.Id.ToString());
            json.WriteString("state", result.State);
            json.WriteString("time", result.Time.ToString());
            if (result.Position is { } position) json.WriteNumber("position", position.Value);
            json.WriteBoolean("changed", result.Changed);
            json.WriteEndObject();
        });
    }

    static bool MaySend(ApiKey key, EntryRow entry) =>
        key.MaySend(entry.Traits.Type, entry.Addressing.Split('\n').Where(line => line.StartsWith('+')).Select(line => line[1..]));

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

    void WriteReach(Utf8JsonWriter json, SpaceRuntime space, Reach reach)
    {
        json.WriteStartObject();
        json.WriteString("address", reach.Address);
        json.WriteNumber("users", reach.Users);
        json.WriteNumber("connected", reach.Connected);
        json.WriteNumber("stored", reach.Stored);
        json.WriteBoolean("known", reach.Known);
        if (!reach.Known && Address.TryParse(reach.Address, out var address) is null)
        {
            bool role = address.Kind == AddressKind.Role;
            var near = NearNames.Among(history.NamesLike(space.Id, role, address.Name), address.Name);
            json.WriteStartArray("near");
            foreach (var name in near) json.WriteStringValue((role ? "role:" : "user:") + name);
            json.WriteEndArray();
        }
        json.WriteEndObject();
    }

    /// <summary><c>GET /v1/notifications/{id}</c>: the notification with everybody it was addressed to, and how many have it.</summary>
    public Task Show(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var found = NotificationId.TryParse((string?)context.Request.RouteValues["id"], out var id) ? history.ById(space.Id, id) : null;
        if (found is null) throw WithdrawCommand.Unknown().ToException();
        return Json.Write(context, 200,
            json => WriteOperatorItem(json, found.Taken is (var taker, { } end)
            ? found with { Taken = (taker, clock.Shown(end)) }
            : found));
    }

    /// <summary>Writes a notification as backends and operators see it.</summary>
    public static void WriteOperatorItem(Utf8JsonWriter json, OperatorItem found)
    {
        json.WriteStartObject();
        json.WriteString("id", found.Entry.Id.ToString());
        json.WriteNumber("position", found.Entry.Position.Value);
        json.WriteString("time", found.Entry.Time.ToString());
        foreach (var (name, sign) in new[] { ("to", '+'), ("except", '-') })
        {
            json.WriteStartArray(name);
            foreach (var line in found.Entry.Addressing.Split('\n'))
            {
                if (line.Length > 0 && line[0] == sign) json.WriteStringValue(line[1..]);
            }
            json.WriteEndArray();
        }
        WriteBody(json, found.Entry.Body);
        json.WriteStartObject("people");
        json.WriteNumber("received", found.People.Received);
        json.WriteNumber("handled", found.People.Handled);
        json.WriteNumber("read", found.People.Read);
        json.WriteEndObject();
        WriteLife(json, found);
        json.WriteEndObject();
    }

    static void WriteLife(Utf8JsonWriter json, OperatorItem found)
    {
        json.WriteString("receiptsKept", found.Entry.Traits.Receipts.ToString().ToLowerInvariant());
        if (found.Taken is var (taker, until) && found.Taken is not null)
        {
            json.WriteStartObject("taken");
            json.WriteString("by", taker);
            if (until is { } end) json.WriteString("until", end.ToString());
            json.WriteEndObject();
        }
        if (found.Entry.Traits.Receipts == ReceiptLevel.Full)
        {
            json.WriteStartArray("receipts");
            foreach (var receipt in found.Receipts)
            {
                json.WriteStartObject();
                json.WriteString("user", ErasedName.Shown(receipt.User));
                json.WriteString("device", receipt.Device);
                json.WriteString("received", receipt.Received?.ToString());
                json.WriteString("handled", receipt.Handled?.ToString());
                json.WriteString("read", receipt.Read?.ToString());
                json.WriteEndObject();
            }
            json.WriteEndArray();
        }
        if (found.Deadlines.Count > 0)
        {
            json.WriteStartArray("deadlines");
            foreach (var deadline in found.Deadlines)
            {
                json.WriteStartObject();
                json.WriteString("by", deadline.Terms.By.ToString().ToLowerInvariant());
                json.WriteString("who", deadline.Terms.Each ? "each" : "anyone");
                json.WriteString("at", deadline.At.ToString());
                json.WriteString("state", deadline.State.ToString().ToLowerInvariant());
                if (deadline.Ended is { } ended) json.WriteString("ended", ended.ToString());
                json.WriteEndObject();
            }
            json.WriteEndArray();
        }
        json.WriteStartArray("timeline");
        json.WriteStartObject();
        json.WriteString("state", "stored");
        json.WriteString("time", found.Entry.Time.ToString());
        json.WriteEndObject();
        foreach (var change in found.Timeline)
        {
            json.WriteStartObject();
            json.WriteString("state", OutgoingEntry.NameOf(change.Kind));
            json.WriteString("time", change.Time.ToString());
            if (change.Kind != EntryKind.Released) WriteBody(json, change.Body);
            json.WriteEndObject();
        }
        json.WriteEndArray();
    }

    /// <summary>Copies the stored members into the current object.</summary>
    public static void WriteBody(Utf8JsonWriter json, byte[] body)
    {
        using var members = JsonDocument.Parse((byte[])[(byte)'{', .. body, (byte)'}']);
        foreach (var member in members.RootElement.EnumerateObject()) member.WriteTo(json);
    }

    /// <summary><c>GET /v1/status</c></summary>
    public async Task Status(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var live = sessions.In(space.Name).ToList();
        var head = (await ledger.Ask(new HeadCommand(space.Name)));
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteString("version", ServiceInfo.Version);
            json.WriteString("since", info.Since.ToString());
            json.WriteString("space", space.Name);
            json.WriteString("epoch", info.Epoch.ToString());
            json.WriteNumber("position", head.Value);
            json.WriteNumber("sessions", live.Count);
            json.WriteNumber("users", live.Select(s => s.User).Distinct().Count());
            json.WriteStartObject("transports");
            foreach (var group in live.GroupBy(s => s.TransportName).OrderBy(g => g.Key)) json.WriteNumber(group.Key, group.Count());
            json.WriteEndObject();
            json.WriteStartArray("originsRefused");
            foreach (var refused in origins.Refused(space)) refused.Write(json, space);
            json.WriteEndArray();
            WriteFaults(json, space);
            ClockApi.Write(json, clock);
            json.WriteString("data", info.DataFolder);
            json.WriteNumber("historyBytes", info.HistoryBytes());
            json.WriteNumber("residentBytes", Environment.WorkingSet);
            json.WriteNumber("liveBytes", ServiceInfo.LiveBytes());
            json.WriteEndObject();
        });
    }

    void WriteFaults(Utf8JsonWriter json, SpaceRuntime space)
    {
        json.WriteNumber("bugs", faults.Bugs);
        json.WriteNumber("storeFailures", faults.StoreFailures);
        json.WriteStartArray("faults");
        foreach (var fault in faults.Of(space.Name).Take(20))
        {
            json.WriteStartObject();
            json.WriteString("where", fault.Where);
            json.WriteString("what", fault.What);
            json.WriteNumber("count", fault.Count);
            json.WriteString("last", fault.Last.ToString());
            json.WriteEndObject();
        }
        json.WriteEndArray();
        json.WriteNumber("erasures", history.Erasures(space.Id));
        json.WriteStartArray("setAside");
        foreach (var aside in history.SetAside(space.Id, 50))
        {
            json.WriteStartObject();
            json.WriteString("time", aside.Time.ToString());
            json.WriteString("kind", aside.Kind == AsideKind.Due ? "due" : "otherwise");
            json.WriteNumber("position", aside.Position);
            json.WriteString("why", aside.Why);
            json.WritePropertyName("detail");
            json.WriteRawValue(aside.Detail);
            json.WriteEndObject();
        }
        json.WriteEndArray();
    }

    /// <summary><c>GET /v1/limits</c>: every limit, and the most that is used of it now.</summary>
    public Task ShowLimits(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("limits");
            foreach (var (name, limit, used, what) in limits.All(space))
            {
                json.WriteStartObject();
                json.WriteString("name", name);
                if (limit > 0) json.WriteNumber("limit", limit);
                json.WriteNumber("used", used);
                json.WriteString("what", what);
                json.WriteEndObject();
            }
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary><c>GET /v1/sessions</c></summary>
    public Task Sessions(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        return Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("sessions");
            foreach (var session in sessions.In(space.Name).OrderBy(s => s.Since.Micros).Take(1000)) session.Write(json);
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }
}
