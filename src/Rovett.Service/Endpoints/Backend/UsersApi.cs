using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Store;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Spaces;
using Rovett.Storage.Sql;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>The directory's users. What changes reaches live sessions before anything that is sent after it.</summary>
public sealed class UsersApi(LedgerPump ledger, SqlHistory history, AuditTrail audit, Tickets tickets, AccessStore access)
{
    const int UsualPage = 50;

    /// <summary>Stores a user.</summary>
    /// <remarks>What is left out stays as it is. An id that is not valid in a path can be given as <c>?id=</c> or in the body.</remarks>
    public async Task<UserAnswer> PutUser(HttpContext context, Given<UserRequest> body)
    {
        var (space, key) = context.KeyCaller();
        var user = Read(body, context.Named("id"));
        body.Sound();
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
        return Answer(stored[0]);
    }

    /// <summary>Signs a user out.</summary>
    /// <remarks>Ends the user's sessions, and every credential that was made before now.</remarks>
    public async Task<SignOutAnswer> SignOut(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        if (Names.Check(context.Named("id"), false, out var id) is { } wrong)
        {
            throw Problem.Invalid([new FieldError("id", wrong)]).ToException();
        }
        var (row, ended) = await ledger.Ask(new SignOutCommand(space.Name, id));
        audit.Note(space.Name, key.Actor, "user.signed-out", AuditTrail.Person(row.Id), json => json.WriteNumber("sessionsEnded", ended));
        return new SignOutAnswer { Id = id, ValidFrom = new StoredTime(row.ValidFrom), SessionsEnded = ended };
    }

    /// <summary>Shows a user.</summary>
    public async Task<UserAnswer> ShowUser(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var id = context.Known("id");
        return Answer(await ledger.Ask(new FindUserCommand(space.Name, id)) ?? throw Unknown(space, id).ToException());
    }

    /// <summary>Lists users.</summary>
    /// <remarks>By id. <c>Link</c> leads to the next page. With <c>?id=</c>, shows that user instead.</remarks>
    public async Task<object> ListUsers(HttpContext context, Given<UserQuery> query)
    {
        if (query.Has("id")) return await ShowUser(context);
        var space = context.KeyCaller().Space;
        int limit = query.Sound().Limit ?? UsualPage;
        var search = query.Value.Search;
        var found = history.Users(space.Id, query.Value.After ?? "", limit + 1, search);
        if (found.Count > limit)
        {
            context.Response.Headers.Link =
                $"<{space.PathPrefix}/v1/users?{(search is null ? "" : $"search={Uri.EscapeDataString(search)}&")}" +
                $"after={Uri.EscapeDataString(found[limit - 1].User)}&limit={limit}>; rel=\"next\"";
        }
        return new UserPage { Users = [.. found.Take(limit).Select(Summary)] };
    }

    /// <summary>Erases a person.</summary>
    /// <remarks>Answered when nothing of the person is left but a pseudonym. The erasure continues without the caller, also
    /// after a restart; asking again waits for the same erasure.</remarks>
    public async Task<ErasureAnswer> EraseUser(HttpContext context)
    {
        var (space, key) = context.KeyCaller();
        var id = context.Known("id");
        var erased = await ledger.Ask(new EraseUserCommand(space.Name, id, space.Settings.MaxTokenLife))
            ?? throw Unknown(space, id).ToException();
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
        return new ErasureAnswer { Erased = erased.Pseudonym, Notifications = scrubbed };
    }

    /// <summary>An erasure is done: what of the person lies beside the history goes too.</summary>
    internal void Erased(string space, ErasureRow erasure)
    {
        tickets.End(space, erasure.Name);
        access.ScrubFreed();
    }

    internal Problem Unknown(SpaceRuntime space, string id)
    {
        var near = NearNames.Among(history.NamesLike(space.Id, false, id), id);
        return new(404, "unknown-user", "No such user", "This space has no user with this id.",
            near.Count > 0 ? $"Did you mean {string.Join(" or ", near)}? GET /v1/users lists them all."
            : "Check the id; GET /v1/users lists them.");
    }

    /// <summary>A user as the directory takes it.</summary>
    /// <param name="given">What was given; what is wrong is added to its errors.</param>
    /// <param name="pathId">The id in the path; null where the user must name it.</param>
    internal static DirectoryUser Read(Given<UserRequest> given, string? pathId)
    {
        var user = given.Value;
        if (pathId is not null && user.Id is not null && Names.Normal(user.Id) != Names.Normal(pathId))
        {
            given.Wrong("id", "is another than the one in the path; leave it out");
        }
        if (Names.Check(pathId ?? user.Id, false, out var id) is { } wrong) given.Wrong("id", wrong);
        List<string>? roles = user.Roles is null ? null : [];
        for (int i = 0; i < user.Roles?.Count; i++)
        {
            if (Names.Check(user.Roles[i], false, out var role) is { } bad) given.Wrong($"roles[{i}]", bad);
            else if (!roles!.Contains(role)) roles.Add(role);
        }
        return new DirectoryUser(new UserId(id), user.DisplayName, user.Locale, roles) { Blocked = user.Blocked };
    }

    static UserSummary Summary(PersonRow row) => new()
    {
        Id = row.User,
        DisplayName = row.DisplayName,
        Locale = row.Locale,
        Roles = row.DirectoryRoles,
        Blocked = row.Blocked ? true : null,
        ValidFrom = row.ValidFrom > 0 ? new StoredTime(row.ValidFrom) : null,
        Since = row.Seen,
    };

    static UserAnswer Answer(UserInfo user)
    {
        var row = Summary(user.Row);
        return new UserAnswer
        {
            Id = row.Id,
            DisplayName = row.DisplayName,
            Locale = row.Locale,
            Roles = row.Roles,
            Blocked = row.Blocked,
            ValidFrom = row.ValidFrom,
            Since = row.Since,
            Holds = user.Held,
            Unread = user.Unread,
            Sessions = user.Sessions,
        };
    }
}
