using System.Text.Json;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Ledgers.Commands.Topics;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Endpoints.Admin;
using Rovett.Service.Endpoints.Backend;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Service.Limits;
using Rovett.Service.Live;
using Rovett.Service.Spaces;
using Rovett.Service.Topics;
using Rovett.Storage.Sql;
using Rovett.Storage.Access;

namespace Rovett.Service.Endpoints.OperatorConsole;

/// <summary>The console's page about access: who may, who was refused and why, what limits are at, who signs in here; and,
/// for operators who may operate, what is done about it.</summary>
public sealed class ConsoleAccess(AccessStore access, Operators operators, SpaceDirectory spaces, LedgerPump ledger,
    SqlHistory history, Origins origins, UsageLimits limits, Deciders deciders, ExplainApi explain, StandIns standIns,
    SessionRegistry sessions, AuditTrail audit, TimeProvider clock)
{
    const int MostActs = 50, MostSignIns = 50, MostSessions = 200;

    /// <summary>Shows what the page about access shows.</summary>
    public async Task<AccessAnswer> ShowAccess(HttpContext context)
    {
        var space = ConsoleEndpoints.SpaceOf(spaces, context);
        var policies = await ledger.Ask(new FindPoliciesCommand(space.Name, null));
        return new AccessAnswer
        {
            PolicyVersion = policies?.Position ?? 0,
            Policies = policies is null ? JsonElement.Parse("[]") : JsonElement.Parse(policies.Document).GetProperty("policies"),
            Deciders = [.. access.Deciders(space.Name).Select(stored => Answer(space, stored))],
            RefusedOrigins = [.. origins.Refused(space).Select(r => RefusedOriginAnswer.Of(r, space))],
            Limits = [.. limits.All(space).Select(l => new LimitState { Name = l.Name, Limit = l.Limit, Used = l.Used, What = l.What })],
            Acts = [.. audit.Newest(space.Name, MostActs).Select(a => ActAnswer.Of(a, history))],
        };
    }

    DeciderState Answer(SpaceRuntime space, StoredDecider stored)
    {
        var state = deciders.StateOf(space, stored.Name);
        return new DeciderState
        {
            Name = stored.Name,
            Asked = state.Asked,
            Failed = state.Failed,
            Resting = state.Resting,
            LastError = state.LastError,
        };
    }

    /// <summary>Explains who may do what.</summary>
    public Task<ExplainAnswer> ExplainInConsole(HttpContext context, Given<ExplainQuery> query) =>
        explain.Of(ConsoleEndpoints.SpaceOf(spaces, context), query);

    /// <summary>Lists who may use the console, and the newest sign-ins.</summary>
    public Task<OperatorsAnswer> ListOperators(HttpContext context) => Task.FromResult(new OperatorsAnswer
    {
        Operators = [.. access.Operators().Select(o =>
            new OperatorAnswer { Name = o.Name, May = o.May, Since = new StoredTime(o.Created) })],
        Sessions = [.. access.OperatorSessions(StoredTime.From(clock.GetUtcNow()).Micros, MostSessions).Select(s =>
            new OperatorSessionAnswer
        {
            Operator = s.Operator,
            Since = new StoredTime(s.Began),
            Ends = new StoredTime(s.Ends),
            Address = s.Address,
            Agent = s.Agent,
        })],
        SignIns = [.. access.SignIns(MostSignIns).Select(s => new SignInAnswer
        {
            Operator = s.Operator,
            Time = new StoredTime(s.Time),
            Address = s.Address,
            Agent = s.Agent,
            SignedIn = s.SignedIn != 0,
        })],
    });

    /// <summary>Creates a one-time link for another operator.</summary>
    public Task<LinkAnswer> CreateLink(HttpContext context, Given<LinkRequest> body)
    {
        var who = context.Operator();
        body.Missing("may", $"must be {string.Join(" or ", Operators.Rights)}");
        return Task.FromResult(Invite(context, "operator:" + who.Name, body.Sound().May!, ""));
    }

    /// <summary>Creates a link to the console.</summary>
    /// <remarks>The link allows one sign-up. Anyone with an admin key of <c>main</c> can thus regain access to the console.</remarks>
    public Task<LinkAnswer> CreateConsoleLink(HttpContext context, Given<LinkRequest> body) => Task.FromResult(
        Invite(context, context.KeyCaller().Key.Actor, body.Sound().May ?? "operate",
        $"{context.Request.Scheme}://{context.Request.Host}"));

    LinkAnswer Invite(HttpContext context, string actor, string may, string origin)
    {
        var link = operators.MakeLink(may);
        audit.Note("main", actor, "operator.invited", may);
        context.Response.Headers.CacheControl = "no-store";
        context.Response.StatusCode = StatusCodes.Status201Created;
        return new LinkAnswer { Link = $"{origin}/console#sign-up={link}", May = may, Minutes = (int)Operators.LinkHolds.TotalMinutes };
    }

    /// <summary>Removes an operator.</summary>
    public Task<NoAnswer> RemoveOperator(HttpContext context, Given<OperatorName> body)
    {
        var who = context.Operator();
        var name = body.Sound().Name ?? "";
        if (!access.RemoveOperator(name))
        {
            throw new Problem(409, "operator-stays", "Operator cannot be removed",
                "No operator has this name, or it is the last one who may operate.",
                "Invite another operator who may operate first.").ToException();
        }
        EndStandIns(name);
        audit.Note("main", "operator:" + who.Name, "operator.removed", name);
        return NoAnswer.To(context);
    }

    /// <summary>Ends all sessions of an operator at the console.</summary>
    public Task<NoAnswer> EndSessions(HttpContext context, Given<OperatorName> body)
    {
        var who = context.Operator();
        var name = body.Sound().Name ?? "";
        int ended = access.EndOperatorSessions(name);
        EndStandIns(name);
        audit.Note("main", "operator:" + who.Name, "operator.signed-out", name, json => json.WriteNumber("sessionsEnded", ended));
        return NoAnswer.To(context);
    }

    void EndStandIns(string name)
    {
        standIns.End(name);
        foreach (var session in spaces.All.SelectMany(s => sessions.In(s.Name)).Where(s => StandIns.IsOf(s.Credential, name)))
            session.End("signed-out", null);
    }

    /// <summary>Gives a credential to connect as a person for a few minutes, and notes it.</summary>
    public async Task<StandInAnswer> StandIn(HttpContext context, Given<UserName> body)
    {
        var who = context.Operator();
        var space = ConsoleEndpoints.SpaceOf(spaces, context);
        if (Names.Check(body.Value.User, false, out var user) is { } wrong) body.Wrong("user", wrong);
        body.Sound();
        if (await ledger.Ask(new FindUserCommand(space.Name, user)) is not { } found)
        {
            throw new Problem(404, "unknown-user", "No such user", $"Nobody with the id '{user}' is known in {space.Name}.",
                "Choose somebody who has connected or was put: GET /v1/users.").ToException();
        }
        var (token, ends) = standIns.Make(space.Name, who, new UserId(user));
        audit.Note(space.Name, "operator:" + who.Name, "user.stood-in-for", AuditTrail.Person(found.Row.Id));
        context.Response.Headers.CacheControl = "no-store";
        return new StandInAnswer { Token = token, Ends = StoredTime.From(ends) };
    }

    /// <summary>Signs a user out.</summary>
    public async Task<NoAnswer> SignOutUser(HttpContext context, Given<UserName> body)
    {
        var who = context.Operator();
        var space = ConsoleEndpoints.SpaceOf(spaces, context);
        if (Names.Check(body.Value.User, false, out var user) is { } wrong) body.Wrong("user", wrong);
        body.Sound();
        var (row, ended) = await ledger.Ask(new SignOutCommand(space.Name, user));
        audit.Note(space.Name, "operator:" + who.Name, "user.signed-out", AuditTrail.Person(row.Id),
            json => json.WriteNumber("sessionsEnded", ended));
        return await NoAnswer.To(context);
    }
}
