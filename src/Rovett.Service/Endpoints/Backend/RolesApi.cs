using System.Xml;
using Rovett.Core.Addresses;
using Rovett.Core.Ledgers.Commands.Directory;
using Rovett.Core.Store;
using Rovett.Service.Audit;
using Rovett.Service.Credentials;
using Rovett.Service.Http;
using Rovett.Service.Ledgers;
using Rovett.Storage.Sql;

namespace Rovett.Service.Endpoints.Backend;

/// <summary>The directory's roles and their settings.</summary>
public sealed class RolesApi(LedgerPump ledger, SqlHistory history, AuditTrail audit)
{
    /// <summary>Sets what a role is set to.</summary>
    /// <remarks>What is left out goes back to its default.</remarks>
    public async Task<RoleAnswer> PutRole(HttpContext context, Given<RoleRequest> body)
    {
        var (space, key) = context.KeyCaller();
        if (Names.Check(context.Named("role"), false, out var role) is { } wrong) body.Wrong("role", wrong);
        TimeSpan? newcomers = null;
        if (body.Value.Newcomers is { } text)
        {
            if (Durations.TryParse(text, out var span)) newcomers = span;
            else body.Wrong("newcomers", "must be now, or a look-back such as 7d");
        }
        var (displayName, presence) = (body.Sound().DisplayName, body.Value.Presence == "members");
        var row = await ledger.Ask(new PutRoleCommand(space.Name, new RoleRow(role, displayName, newcomers, presence)));
        audit.Note(space.Name, key.Actor, "role.put", "role:" + role, json =>
        {
            if (newcomers is { } lookBack) json.WriteNumber("newcomersSeconds", lookBack.TotalSeconds);
            json.WriteBoolean("presence", presence);
        });
        var (_, users, connected) = await ledger.Ask(new FindRoleCommand(space.Name, role));
        return Answer(role, row, users, connected);
    }

    /// <summary>Shows a role.</summary>
    public async Task<RoleAnswer> ShowRole(HttpContext context)
    {
        var space = context.KeyCaller().Space;
        var role = context.Known("role");
        var (row, users, connected) = await ledger.Ask(new FindRoleCommand(space.Name, role));
        if (row is null && users == 0)
        {
            throw new Problem(404, "unknown-role", "No such role", "No user has this role, and it has no settings.",
                "List the roles: GET /v1/roles.").ToException();
        }
        return Answer(role, row, users, connected);
    }

    /// <summary>Lists the roles.</summary>
    /// <remarks>With <c>?role=</c>, shows that role instead.</remarks>
    public async Task<object> ListRoles(HttpContext context, Given<RoleQuery> query)
    {
        if (query.Has("role")) return await ShowRole(context);
        var roles = history.Roles(context.KeyCaller().Space.Id);
        return new RoleList { Roles = [.. roles.Select(r => new RoleSummary { Role = r.Role, Users = r.Users })] };
    }

    static RoleAnswer Answer(string role, RoleRow? row, long users, long connected) => new()
    {
        Role = role,
        DisplayName = row?.DisplayName,
        Newcomers = row?.Newcomers is not { } lookBack ? null : lookBack == TimeSpan.Zero ? "now" : XmlConvert.ToString(lookBack),
        Presence = row?.Presence == true ? "members" : "nobody",
        Users = users,
        Connected = connected,
    };
}
