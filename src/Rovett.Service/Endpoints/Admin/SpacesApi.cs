using Rovett.Core.Addresses;
using Rovett.Core.Ledgers;
using Rovett.Core.Ledgers.Commands.Spaces;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Live;
using Rovett.Service.Meters;
using Rovett.Service.Receipts;
using Rovett.Service.Spaces;
using Rovett.Service.Topics;
using Rovett.Storage.Access;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>Spaces, for callers with an admin key of <c>main</c>.</summary>
public sealed class SpacesApi(SpaceDirectory spaces, SpaceKeeper keeper, ApiKeys keys, SigningKeys signing, LedgerPump ledger,
    AccessStore store, SqlHistory history, SessionRegistry sessions, WebhookSender webhooks, Deciders deciders, MeterKeeper meters,
    AuditTrail audit, Agendas agendas)
{
    const int Most = 1000;

    /// <summary>Lists the spaces.</summary>
    public Task<SpaceList> ListSpaces(HttpContext context) => Task.FromResult(new SpaceList
    {
        Spaces = [.. spaces.All.OrderBy(s => s.Id).Select(Answer)],
    });

    /// <summary>Shows a space.</summary>
    public Task<SpaceAnswer> ShowSpace(HttpContext context) => Task.FromResult(
        spaces.Find((string)context.Request.RouteValues["name"]!) is { } space ? Answer(space) : throw Unknown().ToException());

    SpaceAnswer Answer(SpaceRuntime space) =>
        new() { Name = space.Name, Path = space.PathPrefix + "/v1", Sessions = sessions.In(space.Name).Count() };

    internal static Problem Unknown() =>
        new(404, "unknown-space", "No such space", "No space has this name.", "List them: GET /v1/spaces.");

    /// <summary>Creates a space.</summary>
    /// <remarks>Its first credentials are shown in this answer and never again.</remarks>
    public async Task<SpaceCreated> CreateSpace(HttpContext context, Given<SpaceRequest> body)
    {
        var admin = context.KeyCaller().Key;
        string name = "";
        if (!body.Has("name")) body.Wrong("name", "must be what the space is called: 1 to 128 characters");
        else if (body.IsSound("name") && Names.CheckForPath(body.Value.Name!, out name) is { } wrong) body.Wrong("name", wrong);
        body.Sound();
        if (spaces.Find(name) is not null)
        {
            throw new Problem(409, "space-exists", "Space exists already", $"'{name}' is taken.",
                "Choose another name.").ToException();
        }
        if (spaces.All.Count() >= Most)
        {
            throw new Problem(422, "too-many-spaces", "Too many spaces", $"The limit is {Most} for one service.",
                "Remove one that is not used.").ToException();
        }
        if (spaces.RestsFor(name) is { } seconds)
        {
            throw new Problem(409, "space-name-rests", "Space name not free yet",
                "A space with this name was removed less than a minute ago.",
                "Wait for the seconds in Retry-After, or choose another name.")
            { RetryAfterSeconds = seconds }.ToException();
        }
        var row = await ledger.Ask(new AddSpaceCommand(name, SpaceKeeper.NewKey()));
        store.RemoveSpace(name); // what a removal that was cut short may have left
        store.BeginSpace(name);
        meters.Forget(name);
        var made = SpaceKeeper.NewCredentials(name);
        keeper.Keep(made);
        spaces.Add(keeper.Open(row, null));
        audit.Note("main", admin.Actor, "space.made", name);
        context.Response.Headers.CacheControl = "no-store";
        context.Response.StatusCode = StatusCodes.Status201Created;
        return new SpaceCreated
        {
            Name = name,
            Path = spaces.Find(name)!.PathPrefix + "/v1",
            Credentials = new FirstCredentialsAnswer { AdminKey = made.AdminKey, TokenSigningSecret = made.TokenSigningSecret },
        };
    }

    /// <summary>Removes a space.</summary>
    /// <remarks>Its credentials and sessions end at once; what it stored goes in small steps.</remarks>
    public async Task<RemovedAnswer> RemoveSpace(HttpContext context)
    {
        var admin = context.KeyCaller().Key;
        var name = (string)context.Request.RouteValues["name"]!;
        if (name == "main")
        {
            throw new Problem(409, "space-main", "Space main cannot be removed", "The space main always exists.",
                "Remove its users, keys and policies instead.").ToException();
        }
        if (spaces.Find(name) is not { } space) throw Unknown().ToException();
        // Should it fail, nothing is removed.
        int ended = await ledger.Ask(new RemoveSpaceCommand(name) { StepSize = 10 * LedgerPump.StepSize });
        store.RemoveSpace(name);
        Leave(space);
        audit.Note("main", admin.Actor, "space.removed", name, json => json.WriteNumber("sessionsEnded", ended));
        return new RemovedAnswer { Removed = name, SessionsEnded = ended };
    }

    /// <summary>Another process may have added or removed spaces.</summary>
    public void Refresh()
    {
        var known = spaces.All.ToList(); // first: one that is added meanwhile is not among what is read
        var stored = history.OpenedSpaces().ToDictionary(s => s.Row.Id);
        foreach (var gone in known.Where(s => !stored.ContainsKey(s.Id))) Leave(gone);
        foreach (var (row, policies, types) in stored.Values)
        {
            if (spaces.Find(row.Name)?.Id != row.Id) spaces.Add(keeper.Open(row, policies, types));
        }
    }

    void Leave(SpaceRuntime space)
    {
        if (!spaces.Remove(space)) return;
        agendas.MayPurge = true;
        meters.Forget(space.Name);
        keys.Forget();
        signing.Forget(space.Name);
        webhooks.Refresh();
        deciders.Forget(space, null);
        foreach (var session in sessions.In(space.Name).Where(s => s.Space == space)) session.End("space-removed", null);
    }
}
