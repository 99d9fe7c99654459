using System.Buffers;
using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Xml;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Store;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Options;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;
using Rovett.Storage.Sqlite;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>The directory: users with display name, locale and roles; roles with their settings. What changes reaches
/// live sessions before anything that is sent after it.</summary>
public sealed class DirectoryApi(LedgerPump ledger, SqlHistory history, AuditTrail audit,
    Tickets tickets, AccessStore access, TimeProvider clock)
{
    const int MaxRoles = 64, MaxLineBytes = 64 * 1024, ImportBatch = 200, MaxListed = 500, MostFaults = 50;
    static readonly TimeSpan ProgressEvery = TimeSpan.FromSeconds(1);
    static readonly string[] UserFields = ["id", "displayName", "locale", "roles", "blocked"];

    /// <summary><c>PUT /v1/users/{id}</c>, or <c>PUT /v1/users</c> with the id in <c>?id=</c> or in the body, because
    /// some ids are not valid in a path.</summary>
    public async Task PutUser(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        var user = Read(body.RootElement, Named(context, "id"), errors);
        if (user is null || errors.Count > 0) throw Problem.Invalid(errors).ToException();
        var stored = await ledger.Ask(new PutUsersCommand(space.Name, [user]));
        audit.Note(space.Name, key.Actor, "user.put", AuditTrail.Person(stored[0].Row.Id), json =>
        {
            if (user.Roles is not null)
            {
                json.WriteStartArray("roles");
                foreach (var role in user.Roles) json.WriteStringValue(role);
                json.WriteEndArray();
            }
            if (user.Blocked is { } blocked) json.WriteBoolean("blocked", blocked);
        });
        await Json.Write(context, 200, json => Write(json, stored[0]));
    }

    /// <summary><c>POST /v1/users/{id}/sign-out</c>, or <c>POST /v1/users/sign-out?id=…</c>: ends the user's sessions,
    /// and every credential made before now.</summary>
    public async Task SignOut(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        if (Names.Check(Named(context, "id"), false, out var id) is { } wrong)
        {
            throw Problem.Invalid([new FieldError("id", wrong)]).ToException();
        }
        var (row, ended) = await ledger.Ask(new SignOutCommand(space.Name, id));
        audit.Note(space.Name, key.Actor, "user.signed-out", AuditTrail.Person(row.Id), json => json.WriteNumber("sessionsEnded", ended));
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteString("id", id);
            json.WriteString("validFrom", new StoredTime(row.ValidFrom).ToString());
            json.WriteNumber("sessionsEnded", ended);
            json.WriteEndObject();
        });
    }

    /// <summary><c>POST /v1/users</c>: many users, one JSON object a line (NDJSON). Lines at fault are named; the others are stored.
    /// With <c>Accept: application/x-ndjson</c> the answer is a line now and then, of how far it is, and the result as the last.</summary>
    public async Task ImportUsers(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        // Read a line at a time.
        if (context.Features.Get<Microsoft.AspNetCore.Http.Features.IHttpMaxRequestBodySizeFeature>() is { IsReadOnly: false } limit)
        {
            limit.MaxRequestBodySize = null;
        }
        bool tellsProgress = context.Request.Headers.Accept.ToString().Contains("application/x-ndjson", StringComparison.OrdinalIgnoreCase);
        var reader = new LineReader(context.Request.BodyReader, MaxLineBytes);
        var batch = new List<DirectoryUser>(ImportBatch);
        var faults = new List<FieldError>();
        long line = 0, stored = 0, refused = 0, told = clock.GetTimestamp();
        try
        {
            while (await reader.Next(context.RequestAborted) is { } text)
            {
                line++;
                if (text.Length == 0) continue;
                if (!TryRead(text, line, faults, out var user)) refused++;
                else batch.Add(user!);
                if (batch.Count == ImportBatch) await Flush();
                if (tellsProgress && clock.GetElapsedTime(told) > ProgressEvery) await TellProgress();
            }
            await Flush();
        }
        catch (Exception failed) when (context.Response.HasStarted && (failed is ProblemException || LedgerPump.IsStoreFailure(failed)))
        {
            // The status is gone out already: the last line is the problem.
            await Write((failed as ProblemException)?.Problem ?? LedgerPump.StoreFailed());
            return;
        }
        finally
        {
            NoteImport(); // also of what was cut short
        }
        if (tellsProgress)
        {
            Begin();
            await Write(null);
        }
        else await Json.Write(context, refused > 0 && stored == 0 ? 422 : 200, json => Counts(json, null));

        async Task Flush()
        {
            if (space.IsRemoved) throw UnknownSpace(space).ToException(); // its name may be another tenant's by now
            if (batch.Count > 0) await ledger.Ask(new PutUsersCommand(space.Name, [.. batch], wantsAnswer: false));
            stored += batch.Count;
            batch.Clear();
        }

        void NoteImport()
        {
            if (stored > 0) audit.Note(space.Name, key.Actor, "users.imported", "users", json => json.WriteNumber("stored", stored));
        }

        void Begin()
        {
            if (!context.Response.HasStarted) context.Response.ContentType = "application/x-ndjson";
        }

        async Task TellProgress()
        {
            Begin();
            told = clock.GetTimestamp();
            await Line($"{{\"line\":{line},\"stored\":{stored},\"refused\":{refused}}}\n");
        }

        async Task Write(Problem? problem)
        {
            var buffer = new ArrayBufferWriter<byte>();
            await using (var json = new Utf8JsonWriter(buffer, Json.Writing)) Counts(json, problem);
            await Line(Encoding.UTF8.GetString(buffer.WrittenSpan) + "\n");
        }

        async Task Line(string text)
        {
            await context.Response.WriteAsync(text, context.RequestAborted);
            await context.Response.Body.FlushAsync(context.RequestAborted);
        }

        void Counts(Utf8JsonWriter json, Problem? problem)
        {
            json.WriteStartObject();
            json.WriteNumber("stored", stored);
            json.WriteNumber("refused", refused);
            if (problem is not null)
            {
                json.WriteStartObject("problem");
                problem.WriteMembers(json);
                json.WriteEndObject();
            }
            FieldError.WriteAll(json, faults);
            json.WriteEndObject();
        }
    }

    static bool TryRead(byte[] text, long line, List<FieldError> faults, out DirectoryUser? user)
    {
        var errors = new List<FieldError>();
        user = null;
        try
        {
            using var document = Json.Parse(text);
            user = Read(document.RootElement, null, errors);
        }
        catch (ProblemException)
        {
            errors.Add(new FieldError("(line)", "is not one JSON object"));
        }
        if (user is not null && errors.Count == 0) return true;
        if (faults.Count < MostFaults) faults.AddRange(errors.Select(e => new FieldError($"line {line}: {e.Field}", e.Detail)));
        return false;
    }

    /// <summary><c>GET /v1/users/{id}</c>, or <c>GET /v1/users?id=…</c></summary>
    public async Task ShowUser(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var id = Known(context, "id");
        var found = await ledger.Ask(new FindUserCommand(space.Name, id)) ?? throw UnknownUser(space, id).ToException();
        await Json.Write(context, 200, json => Write(json, found));
    }

    /// <summary><c>GET /v1/users</c>: by id, after one.</summary>
    public async Task ListUsers(HttpContext context)
    {
        if (context.Request.Query.ContainsKey("id"))
        {
            await ShowUser(context);
            return;
        }
        var space = context.KeyCaller().Space;
        int limit = 50;
        if (context.Request.Query.TryGetValue("limit", out var text)
            && (!int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out limit) || limit is < 1 or > MaxListed))
        {
            throw Problem.Invalid([new FieldError("limit", $"must be 1 to {MaxListed}")]).ToException();
        }
        var found = history.Users(space.Id, context.Request.Query["after"].ToString(), limit + 1);
        if (found.Count > limit)
        {
            context.Response.Headers.Link =
                $"<{space.PathPrefix}/v1/users?after={Uri.EscapeDataString(found[limit - 1].User)}&limit={limit}>; rel=\"next\"";
        }
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("users");
            foreach (var row in found.Take(limit))
            {
                json.WriteStartObject();
                WriteRow(json, row);
                json.WriteEndObject();
            }
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary><c>DELETE /v1/users/{id}</c>: erases a person. Answered when nothing of the person is left but a
    /// pseudonym. It is carried on without whoever
    /// asked, also after a restart; asking again waits for the same.</summary>
    public async Task EraseUser(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var id = Known(context, "id");
        var erased = await ledger.Ask(new EraseUserCommand(space.Name, id, space.Settings.MaxTokenLife))
            ?? throw UnknownUser(space, id).ToException();
        if (erased is { Stage: ErasureStage.Deadlines, At: 0 })
        {
            audit.Note(space.Name, key.Actor, "user.erased", "user:" + erased.Pseudonym);
        }
        tickets.End(space.Name, id);
        long scrubbed = erased.Scrubbed;
        while (!space.IsRemoved && !context.RequestAborted.IsCancellationRequested
            && await ledger.Ask(new EraseStepCommand(space.Name, erased.Person)) is { } state)
        {
            scrubbed = state.Row.Scrubbed;
            if (state.Done) Erased(space.Name, state.Row);
        }
        await Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteString("erased", erased.Pseudonym);
            json.WriteNumber("notifications", scrubbed);
            json.WriteEndObject();
        });
    }

    /// <summary>An erasure is done: what of the person lies beside the history goes too.</summary>
    public void Erased(string space, ErasureRow erasure)
    {
        tickets.End(space, erasure.Name);
        access.Truncate();
    }

    /// <summary><c>PUT /v1/roles/{role}</c></summary>
    public async Task PutRole(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        using var body = await Json.Read(context);
        var errors = new List<FieldError>();
        if (Names.Check(Named(context, "role"), false, out var role) is { } wrong) errors.Add(new FieldError("role", wrong));
        string? displayName = null;
        TimeSpan? newcomers = null;
        bool presence = false;
        if (body.RootElement.ValueKind != JsonValueKind.Object) errors.Add(new FieldError("(body)", "must be a JSON object"));
        else
        {
            foreach (var member in body.RootElement.EnumerateObject())
            {
                switch (member.Name)
                {
                    case "displayName" when JsonText.TryString(member.Value, out var text) && text.Length is > 0 and <= 128:
                        displayName = text;
                        break;
                    case "displayName": errors.Add(new FieldError("displayName", "must be 1 to 128 characters")); break;
                    case "newcomers" when JsonText.TryString(member.Value, out var text) && Durations.TryParse(text, out var span):
                        newcomers = span;
                        break;
                    case "newcomers": errors.Add(new FieldError("newcomers", "must be now, or a look-back such as 7d")); break;
                    case "presence" when JsonText.TryString(member.Value, out var text) && text is "members" or "nobody":
                        presence = text == "members";
                        break;
                    case "presence":
                        errors.Add(new FieldError("presence",
                            "must be members (members see who is connected) or nobody"));
                        break;
                    default:
                        errors.Add(new FieldError(member.Name,
                            "is not a setting of a role; the settings are displayName, newcomers, presence"));
                        break;
                }
            }
        }
        if (errors.Count > 0) throw Problem.Invalid(errors).ToException();
        var row = await ledger.Ask(new PutRoleCommand(space.Name, new RoleRow(role, displayName, newcomers, presence)));
        audit.Note(space.Name, key.Actor, "role.put", "role:" + role, json =>
        {
            if (newcomers is { } lookBack) json.WriteNumber("newcomersSeconds", lookBack.TotalSeconds);
            json.WriteBoolean("presence", presence);
        });
        var (_, users, connected) = await ledger.Ask(new FindRoleCommand(space.Name, role));
        await Json.Write(context, 200, json => WriteRole(json, role, row, users, connected));
    }

    /// <summary><c>GET /v1/roles/{role}</c></summary>
    public async Task ShowRole(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var role = Known(context, "role");
        var (row, users, connected) = await ledger.Ask(new FindRoleCommand(space.Name, role));
        if (row is null && users == 0)
        {
            throw new Problem(404, "unknown-role", "No such role", "No user holds this role, and it has no settings.",
                "List the roles: GET /v1/roles.").ToException();
        }
        await Json.Write(context, 200, json => WriteRole(json, role, row, users, connected));
    }

    /// <summary><c>GET /v1/roles</c></summary>
    public Task ListRoles(HttpContext context)
    {
        if (context.Request.Query.ContainsKey("role")) return ShowRole(context);
        var space = context.KeyCaller().Space;
        var roles = history.Roles(space.Id);
        return Json.Write(context, 200, json =>
        {
            json.WriteStartObject();
            json.WriteStartArray("roles");
            foreach (var (role, users) in roles)
            {
                json.WriteStartObject();
                json.WriteString("role", role);
                json.WriteNumber("users", users);
                json.WriteEndObject();
            }
            json.WriteEndArray();
            json.WriteEndObject();
        });
    }

    /// <summary>A name from the path or the query (<c>.</c> and <c>..</c> are not valid in a path). Null if neither has it.</summary>
    static string? Named(HttpContext context, string part)
    {
        if (context.Request.RouteValues[part] is not string name)
        {
            return context.Request.Query.TryGetValue(part, out var query) ? query.ToString() : null;
        }
        // The framework leaves an encoded slash as it is, so that a/b and a%2Fb look alike; only as it was sent they differ.
        bool isSlash = name.Contains("%2F", StringComparison.OrdinalIgnoreCase)
            && context.Features.Get<Microsoft.AspNetCore.Http.Features.IHttpRequestFeature>()?.RawTarget.Split('?')[0].Contains("%2F",
            StringComparison.OrdinalIgnoreCase) == true;
        return isSlash ? name.Replace("%2F", "/", StringComparison.OrdinalIgnoreCase) : name;
    }

    /// <summary>A name as it may be stored, whatever the rules for new ones are.</summary>
    /// <exception cref="ProblemException">422: none was named, or nothing can be stored by it.</exception>
    static string Known(HttpContext context, string part) =>
        Names.Normal(Named(context, part))
        ?? throw Problem.Invalid([new FieldError(part, "must be 1 to 128 characters")], $"Name it in the path, or as ?{part}=…")
        .ToException();

    static Problem UnknownSpace(SpaceRuntime space) =>
        new(404, "unknown-space", "No such space", $"The space '{space.Name}' has been removed.",
        "Check the path: /v1/… for the space main, /s/<space>/v1/… for any other.");

    Problem UnknownUser(SpaceRuntime space, string id)
    {
        var near = NearNames.Among(history.NamesLike(space.Id, false, id), id);
        return new(404, "unknown-user", "No such user", "This space has no user with this id.",
            near.Count > 0 ? $"Did you mean {string.Join(" or ", near)}? GET /v1/users lists them all."
            : "Check the id; GET /v1/users lists them.");
    }

    /// <param name="root">One user.</param>
    /// <param name="pathId">The id in the path; null where the user must name it.</param>
    /// <param name="errors">What is wrong.</param>
    static DirectoryUser? Read(JsonElement root, string? pathId, List<FieldError> errors)
    {
        if (root.ValueKind != JsonValueKind.Object)
        {
            errors.Add(new FieldError("(body)", "must be a JSON object"));
            return null;
        }
        foreach (var member in root.EnumerateObject())
        {
            if (!UserFields.Contains(member.Name))
            {
                errors.Add(new FieldError(member.Name, $"is not a field of a user; the fields are {string.Join(", ", UserFields)}"));
            }
        }
        var named = root.TryGetProperty("id", out var idElement) && JsonText.TryString(idElement, out var idText) ? idText : null;
        if (pathId is not null && named is not null && Names.Normal(named) != Names.Normal(pathId))
        {
            errors.Add(new FieldError("id", "is another than the one in the path; leave it out"));
        }
        if (Names.Check(pathId ?? named, false, out var id) is { } wrong) errors.Add(new FieldError("id", wrong));
        List<string>? roles = null;
        if (root.TryGetProperty("roles", out var array))
        {
            roles = [];
            if (array.ValueKind != JsonValueKind.Array || array.GetArrayLength() > MaxRoles)
            {
                errors.Add(new FieldError("roles", $"must be an array of at most {MaxRoles} role names"));
            }
            else
            {
                foreach (var item in array.EnumerateArray())
                {
                    string role = "";
                    var bad = JsonText.TryString(item, out var text) ? Names.Check(text, false, out role) : "must be a string";
                    if (bad is not null) errors.Add(new FieldError($"roles[{roles.Count}]", bad));
                    else if (!roles.Contains(role)) roles.Add(role);
                }
            }
        }
        bool? blocked = null;
        if (root.TryGetProperty("blocked", out var flag))
        {
            if (flag.ValueKind is JsonValueKind.True or JsonValueKind.False) blocked = flag.GetBoolean();
            else errors.Add(new FieldError("blocked", "must be true or false"));
        }
        return new DirectoryUser(new UserId(id), Text(root, "displayName", 128, errors), Text(root, "locale", 35, errors), roles)
        { Blocked = blocked };
    }

    static string? Text(JsonElement root, string field, int max, List<FieldError> errors)
    {
        if (!root.TryGetProperty(field, out var element)) return null;
        if (JsonText.TryString(element, out var text) && text.Length > 0 && text.Length <= max && !text.Any(char.IsControl)) return text;
        errors.Add(new FieldError(field, $"must be 1 to {max} characters without line breaks"));
        return null;
    }

    static void WriteRow(Utf8JsonWriter json, PersonRow row)
    {
        json.WriteString("id", row.User);
        if (row.DisplayName is not null) json.WriteString("displayName", row.DisplayName);
        if (row.Locale is not null) json.WriteString("locale", row.Locale);
        json.WriteStartArray("roles");
        foreach (var role in row.DirectoryRoles) json.WriteStringValue(role);
        json.WriteEndArray();
        if (row.Blocked) json.WriteBoolean("blocked", true);
        if (row.ValidFrom > 0) json.WriteString("validFrom", new StoredTime(row.ValidFrom).ToString());
        if (row.Seen is { } since) json.WriteString("since", since.ToString());
    }

    static void Write(Utf8JsonWriter json, UserInfo user)
    {
        json.WriteStartObject();
        WriteRow(json, user.Row);
        json.WriteStartArray("holds");
        foreach (var address in user.Held) json.WriteStringValue(address);
        json.WriteEndArray();
        json.WriteNumber("unread", user.Unread);
        json.WriteNumber("sessions", user.Sessions);
        json.WriteEndObject();
    }

    static void WriteRole(Utf8JsonWriter json, string role, RoleRow? row, long users, long connected)
    {
        json.WriteStartObject();
        json.WriteString("role", role);
        if (row?.DisplayName is { } name) json.WriteString("displayName", name);
        if (row?.Newcomers is { } lookBack)
        {
            json.WriteString("newcomers", lookBack == TimeSpan.Zero ? "now" : XmlConvert.ToString(lookBack));
        }
        json.WriteString("presence", row?.Presence == true ? "members" : "nobody");
        json.WriteNumber("users", users);
        json.WriteNumber("connected", connected);
        json.WriteEndObject();
    }
}
